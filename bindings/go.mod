module github.com/small-pantry/pantry/bindings

go 1.26.0

require (
	github.com/small-pantry/pantry v0.0.0
	github.com/stretchr/testify v1.12.1
	golang.org/x/mobile v0.0.0-20261011034528-197770444867
)

require (
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
	golang.org/x/sys v0.50.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
)

replace github.com/small-pantry/pantry => ..

tool golang.org/x/mobile/cmd/gobind
