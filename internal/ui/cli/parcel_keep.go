package cli

import (
	"github.com/spf13/cobra"

	"anagram/internal/flow/export"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func parcelAgainCommand(a *app) *cobra.Command {
	var name, note string
	var asFolder bool
	cmd := &cobra.Command{
		Use:     "again P",
		Short:   "Export once more what a parcel holds: same environment, same selection",
		Example: "  anagram parcel again month-end-may --name month-end-june",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			result, err := export.Again(cmd.Context(), s, given[0], export.Request{Name: name, Note: note, AsFolder: asFolder})
			if err != nil {
				return err
			}
			return present.Export(a.Page, result)
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "name of the new parcel (else made from environment, date and time)")
	cmd.Flags().StringVar(&note, "note", "", "a note (else that of the parcel)")
	cmd.Flags().BoolVar(&asFolder, "as-folder", false, "a plain folder instead of one file")
	return cmd
}

func parcelRenameCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "rename P NAME",
		Short:   "Give a parcel of the library another name",
		Example: "  anagram parcel rename monday before-the-new-year",
		RunE: a.step(2, 2, func(_ *cobra.Command, s *session.Session, given []string) error {
			path, err := library.Rename(s, given[0], given[1])
			if err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(wire.Stored{Parcel: given[1], File: path})
			}
			present.Printf(a.Out, "Parcel %s is now %s.\n", given[0], path)
			return nil
		}),
	}
}

func parcelRemoveCommand(a *app) *cobra.Command {
	var anyway bool
	cmd := &cobra.Command{
		Use:     "remove P",
		Short:   "Remove a parcel from the library for good",
		Example: "  anagram parcel remove monday",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			path, err := library.Remove(cmd.Context(), s, given[0], anyway)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(wire.Stored{Parcel: given[0], File: path, Removed: true})
			}
			present.Printf(a.Out, "Removed %s.\n", path)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&anyway, "anyway", false, "remove it even if a docket made with it is not imported yet")
	return cmd
}
