module github.com/small-pantry/pantry/bindings

go 1.26.0

require (
	github.com/gofrs/flock v0.13.2
	github.com/small-pantry/pantry v0.0.0
	github.com/stretchr/testify v1.12.1
	golang.org/x/mobile v0.0.0-20261011034528-197770444867
)

require (
	github.com/beorn7/perks v1.0.1 // indirect
	github.com/cenkalti/backoff/v5 v5.0.3 // indirect
	github.com/cespare/xxhash/v2 v2.3.0 // indirect
	github.com/go-chi/chi/v5 v5.5.0 // indirect
	github.com/google/renameio/v2 v2.0.2 // indirect
	github.com/munnerz/goautoneg v0.0.0-20191010083416-a7dc8b61c822 // indirect
	github.com/prometheus/client_golang v1.25.0 // indirect
	github.com/prometheus/client_model v0.6.3 // indirect
	github.com/prometheus/common v0.72.0 // indirect
	github.com/prometheus/procfs v0.22.0 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
	golang.org/x/sys v0.50.0 // indirect
	golang.org/x/time v0.16.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	google.golang.org/protobuf v1.36.12 // indirect
)

replace github.com/small-pantry/pantry => ..

tool golang.org/x/mobile/cmd/gobind
