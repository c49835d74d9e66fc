module timegate

go 1.26

require github.com/pelletier/go-toml/v2 v2.4.3 // indirect
