module jollylarder

go 1.26.0

require (
	github.com/jackc/pgx/v5 v5.12.0
	github.com/maypok86/otter/v2 v2.4.0
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/pganalyze/pg_query_go/v6 v6.2.5
	github.com/stretchr/testify v1.12.1
	google.golang.org/protobuf v1.33.0
	pgregory.net/rapid v1.3.0
)

require go.yaml.in/yaml/v3 v3.0.5 // indirect
