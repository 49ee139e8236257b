package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"weltaxis/internal/nearest"
	"weltaxis/schemas"
)

func (p *program) schemaCommand() *cobra.Command {
	return p.written(&cobra.Command{
		Use:   "schema " + strings.Join(schemas.Names(), "|"),
		Short: "Prints the JSON Schema of a file people write or a result they parse",
		Args:  oneArgument("name one of " + strings.Join(schemas.Names(), ", ")),
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := schemas.Text(args[0])
			if err != nil {
				return fmt.Errorf("there is no schema %q%s; there are %s", args[0], nearest.Hint(args[0], schemas.Names()), strings.Join(schemas.Names(), ", "))
			}
			p.format = "json"
			return p.write(form{"json", func(w io.Writer) error { _, err := w.Write(text); return err }})
		},
		ValidArgs: schemas.Names(),
		Example:   "  weltaxis schema site --output site.schema.json",
	}, "json")
}
