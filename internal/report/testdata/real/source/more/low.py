def low(:
    pass
