module weltaxis

go 1.26.0

require (
	al.essio.dev/pkg/shellescape v1.6.1
	cel.dev/cel-go v0.33.2
	github.com/Masterminds/semver/v3 v3.5.0
	github.com/agnivade/levenshtein v1.2.2
	github.com/aquasecurity/go-gem-version v0.0.0-20201115065557-8eed6fe000ce
	github.com/aquasecurity/go-pep440-version v0.0.1
	github.com/arran4/golang-ical v0.3.4
	github.com/aymanbagabas/go-udiff v0.4.1
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/charlievieth/fastwalk v1.0.14
	github.com/charmbracelet/colorprofile v0.4.3
	github.com/charmbracelet/x/ansi v0.11.9
	github.com/charmbracelet/x/term v0.2.2
	github.com/chromedp/cdproto v0.159.0
	github.com/chromedp/chromedp v0.23.0
	github.com/dlclark/regexp2/v2 v2.13.0
	github.com/dunglas/httpsfv v1.1.2
	github.com/elliotchance/phpserialize v1.4.0
	github.com/go-sql-driver/mysql v1.10.1
	github.com/goccy/go-yaml v1.19.2
	github.com/google/renameio/v2 v2.0.2
	github.com/jackc/pgx/v5 v5.12.0
	github.com/joho/godotenv v1.5.1
	github.com/klauspost/compress v1.20.4
	github.com/knqyf263/go-deb-version v0.0.0-20241115132648-6f4aee6ccd23
	github.com/magiconair/properties v1.18.12
	github.com/microcosm-cc/bluemonday v1.0.27
	github.com/pandatix/go-cvss v0.6.4
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/rogpeppe/go-internal v1.16.0
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.9
	github.com/stretchr/testify v1.12.1
	github.com/tdewolff/minify/v2 v2.24.25
	github.com/yuin/goldmark v1.8.7
	golang.org/x/crypto v0.59.0
	golang.org/x/image v0.47.0
	golang.org/x/net v0.62.0
	golang.org/x/perf v0.0.0-20260908200009-22c9c6c9d4da
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/text v0.44.0
	golang.org/x/time v0.16.0
	gopkg.in/ini.v1 v1.67.3
	modernc.org/sqlite v1.61.1
)

require (
	cel.dev/expr v0.25.1 // indirect
	filippo.io/edwards25519 v1.2.0 // indirect
	github.com/aclements/go-moremath v0.0.0-20210112150236-f10218a38794 // indirect
	github.com/antlr4-go/antlr/v4 v4.13.1 // indirect
	github.com/aquasecurity/go-version v0.0.1 // indirect
	github.com/aymerick/douceur v0.2.0 // indirect
	github.com/clipperhouse/displaywidth v0.11.0 // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/gorilla/css v1.0.1 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/jackc/pgpassfile v1.0.0 // indirect
	github.com/jackc/pgservicefile v0.0.0-20240606120523-5a60cdf6a761 // indirect
	github.com/jackc/puddle/v2 v2.2.3 // indirect
	github.com/lucasb-eyer/go-colorful v1.4.1 // indirect
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/mattn/go-runewidth v0.0.31 // indirect
	github.com/ncruces/go-strftime v1.1.0 // indirect
	github.com/remyoudompheng/bigfft v0.0.0-20230129092748-24d4a6f8daec // indirect
	github.com/tdewolff/parse/v2 v2.8.20 // indirect
	github.com/xo/terminfo v0.0.0-20220910002029-abceb7e1c41e // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/exp v0.0.0-20260824195058-e88cd73687aa // indirect
	golang.org/x/tools v0.52.0 // indirect
	golang.org/x/xerrors v0.0.0-20240903120638-7835f813f4da // indirect
	google.golang.org/genproto/googleapis/api v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/genproto/googleapis/rpc v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/protobuf v1.36.10 // indirect
	modernc.org/libc v1.79.0 // indirect
	modernc.org/mathutil v1.7.1 // indirect
	modernc.org/memory v1.12.1 // indirect
)
