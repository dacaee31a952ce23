module example.org/trouble

go 1.26
