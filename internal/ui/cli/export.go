package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"anagram/internal/flow"
	"anagram/internal/store/parcel"
)

// selectionFlags are the flags that say what to export.
func selectionFlags(cmd *cobra.Command, r *flow.ExportRequest) {
	flags := cmd.Flags()
	flags.StringSliceVar(&r.Selection.Areas, "area", nil, "an area of the catalog (may be given more than once)")
	flags.StringSliceVar(&r.Selection.Types, "type", nil, "a record type (may be given more than once)")
	flags.StringArrayVar(&r.Selection.Records, "record", nil, "the address of a record, or a pattern (may be given more than once)")
	flags.StringVar(&r.Name, "name", "", "name of the parcel (else made from environment, date and time)")
	flags.StringVar(&r.Note, "note", "", "a note for those who read the parcel later")
}

func (a *app) exportCommand() *cobra.Command {
	var r flow.ExportRequest
	cmd := &cobra.Command{
		Use:   "export ENV",
		Short: "Copy records of an environment into a new parcel",
		Long: `Copies records of an environment into a new parcel of the library. Nothing in the
environment is changed. Without --area, --type or --record everything that the
catalog describes is exported.`,
		Example: "  anagram export sandbox --area tests --note \"New year\"\n  anagram export sandbox --record assay/GLU --record 'assay_range/GLU/*'",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *flow.Session, given []string) error {
			r.Environment = given[0]
			result, err := s.Export(cmd.Context(), r)
			if err != nil {
				return err
			}
			return a.printExport(result)
		}),
	}
	selectionFlags(cmd, &r)
	cmd.Flags().BoolVar(&r.AsFolder, "as-folder", false, "a plain folder instead of one file, for version control")
	return cmd
}

type typeCount struct {
	Type   string `json:"type"`
	Chosen int    `json:"chosen"`
	Along  int    `json:"along"`
}

func (a *app) printExport(result flow.ExportResult) error {
	m := result.Manifest
	if a.json {
		types := []typeCount{}
		for _, t := range m.Types {
			types = append(types, typeCount{Type: t.Name, Chosen: t.Records})
		}
		return a.printJSON(map[string]any{
			"parcel": m.Name, "file": result.File, "source": m.Source,
			"records": map[string]int{"chosen": m.Records(), "along": 0}, "types": types, "files": len(m.Files), "bytes": result.Bytes,
		})
	}
	text := fmt.Sprintf("Exported %s of %s from %s into parcel %s", count(m.Records(), "record"), count(len(m.Types), "record type"), m.Source, m.Name)
	if len(m.Files) > 0 {
		text += ", with " + count(len(m.Files), "attachment")
	}
	fmt.Fprintf(a.Out, "%s.\n\n", a.wrap(text, ""))
	printTypeCounts(a, m)
	fmt.Fprintf(a.Out, "\n%s (%s)\n", result.File, size(result.Bytes))
	a.next("anagram match " + quoteArg(m.Name) + " --against ENVIRONMENT")
	return nil
}

func printTypeCounts(a *app, m parcel.Manifest) {
	t := table{columns: []string{"record type", ">records"}}
	for _, typ := range m.Types {
		t.add(typ.Name, fmt.Sprint(typ.Records))
	}
	a.printTable(t, "  ")
}
