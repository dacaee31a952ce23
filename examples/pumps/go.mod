module example.com/pumps

go 1.25
