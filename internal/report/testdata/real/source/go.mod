module tideboard

go 1.24
