module eastporch/tools/bench

go 1.26.0

replace eastporch => ../..

require (
	eastporch v0.0.0
	github.com/jackc/pgx/v5 v5.12.0
	github.com/stretchr/testify v1.12.1
)

require (
	github.com/google/uuid v1.6.0 // indirect
	github.com/hashicorp/golang-lru/v2 v2.0.7 // indirect
	github.com/klauspost/compress v1.20.4 // indirect
	github.com/mileusna/useragent v1.3.5 // indirect
	github.com/shopspring/decimal v1.6.0 // indirect
)

require (
	github.com/gaissmai/bart v0.30.0
	github.com/jackc/pgpassfile v1.0.0 // indirect
	github.com/jackc/pgservicefile v0.0.0-20240606120523-5a60cdf6a761 // indirect
	go.yaml.in/yaml/v3 v3.0.6 // indirect
	golang.org/x/text v0.44.0 // indirect
)
