module github.com/small-pantry/pantry

go 1.26.0

require golang.org/x/sys v0.50.0 // indirect
