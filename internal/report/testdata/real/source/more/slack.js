let slack = ;
