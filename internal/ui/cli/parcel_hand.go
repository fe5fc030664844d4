package cli

import (
	"github.com/spf13/cobra"

	"anagram/internal/flow/byhand"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func parcelResealCommand(a *app) *cobra.Command {
	var note string
	cmd := &cobra.Command{
		Use:   "reseal P --note TEXT",
		Short: "Check an edited parcel and seal it again",
		Long: `Checks every record of a parcel that was edited by hand (types, keys, references,
nothing twice) and seals it again in its place. In the folder form a type may be
given as records/TYPE.csv or records/TYPE.xlsx instead of records/TYPE.jsonl. Who
sealed it again, when and why stays visible wherever the parcel is used.`,
		Example: "  anagram parcel reseal month-end --note \"price of GLU corrected by hand\"",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			result, err := byhand.Reseal(cmd.Context(), s, given[0], note)
			if err != nil {
				return err
			}
			return present.Made(a.Page, result, "Sealed")
		}),
	}
	cmd.Flags().StringVar(&note, "note", "", "why the parcel was edited")
	return cmd
}

func parcelMakeCommand(a *app) *cobra.Command {
	var r byhand.MakeRequest
	cmd := &cobra.Command{
		Use:   "make FOLDER --like ENV_OR_PARCEL",
		Short: "Make a parcel of records written by hand",
		Long: `Makes a parcel of a folder with records/TYPE.csv, .xlsx or .jsonl, after checking
every record. Which fields a record type has, and of what kind they are, is taken
from an environment or another parcel.`,
		Example: "  anagram parcel make new-units --like production",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			r.Folder = a.path(given[0])
			result, err := byhand.Make(cmd.Context(), s, r)
			if err != nil {
				return err
			}
			return present.Made(a.Page, result, "Made")
		}),
	}
	cmd.Flags().StringVar(&r.Like, "like", "", "the environment or parcel whose fields the records have")
	cmd.Flags().StringVar(&r.Name, "name", "", "name of the parcel (else that of the folder)")
	cmd.Flags().StringVar(&r.Note, "note", "", "a note for those who read the parcel later")
	return cmd
}

func parcelTableCommand(a *app) *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "table P TYPE [PATTERN...]",
		Short: "Show the records of one type as a table, or write them as CSV or a spreadsheet",
		Long: `Shows the records of one type as a table, with as many fields as fit. With --out all
of them are written whole, as a CSV file or a spreadsheet that can be edited.`,
		Example: "  anagram parcel table month-end unit\n  anagram parcel table month-end price_line --out prices.xlsx",
		RunE: a.step(2, -1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if out == "" {
				return present.ParcelTable(cmd.Context(), a.Page, s, given)
			}
			if len(given) > 2 {
				return &session.UsageError{Message: "--out writes all records of the type; leave the patterns out"}
			}
			n, err := byhand.WriteTable(cmd.Context(), s, given[0], given[1], a.path(out))
			if err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(wire.Table{Parcel: given[0], Type: given[1], File: a.path(out), Records: n})
			}
			present.Printf(a.Out, "Wrote %s of %s into %s.\n", present.Count(n, "record"), given[1], out)
			return nil
		}),
	}
	cmd.Flags().StringVar(&out, "out", "", "the file to write, ending in .csv or .xlsx")
	return cmd
}
