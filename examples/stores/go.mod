module stores

go 1.25
