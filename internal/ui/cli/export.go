package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/flow/choose"
	"anagram/internal/flow/export"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
)

// selectionFlags are the flags that say what to export.
func selectionFlags(cmd *cobra.Command, r *present.Asked) {
	flags := cmd.Flags()
	flags.StringSliceVar(&r.Selection.Areas, "area", nil, "an area of the catalog (may be given more than once)")
	flags.StringSliceVar(&r.Selection.Types, "type", nil, "a record type (may be given more than once)")
	flags.StringArrayVar(&r.Selection.Records, "record", nil, "the address of a record, or a pattern (may be given more than once)")
	flags.StringArrayVar(&r.Where, "where", nil, "'TYPE: CONDITION': only records that fulfil it (may be given more than once)")
	flags.StringVar(&r.Selection.ChangedSince, "changed-since", "", "only what changed since a date, a time, or last-import:TARGET")
	flags.StringArrayVar(&r.Selection.LeaveOut, "leave-out", nil, "a pattern of records to leave out (may be given more than once)")
	flags.StringVar(&r.Selection.Related, "related", "", "what comes along: all (as far as it is needed), parts or none")
	flags.BoolVar(&r.Selection.NoFiles, "no-files", false, "leave attachments out")
	flags.StringVar(&r.Saved, "selection", "", "a selection that anagram.yaml has under this name")
	flags.StringVar(&r.Save, "save-selection", "", "keep this selection in anagram.yaml under a name")
	flags.StringVar(&r.Name, "name", "", "name of the parcel (else made from environment, date and time)")
	flags.StringVar(&r.Note, "note", "", "a note for those who read the parcel later")
}

// exportFlags are those that only mean something where records are exported.
var exportFlags = []string{"area", "type", "record", "where", "changed-since", "leave-out", "related", "no-files", "selection",
	"save-selection", "name", "note"}

// request makes the request of what was asked.
func (a *app) request(s *session.Session, r *present.Asked) (export.Request, error) {
	own := r.Selection
	for _, text := range r.Where {
		typ, condition, ok := strings.Cut(text, ":")
		typ, condition = strings.TrimSpace(typ), strings.TrimSpace(condition)
		if !ok || typ == "" || condition == "" {
			return r.Request,
				&session.UsageError{Message: fmt.Sprintf("--where %q is written as 'TYPE: CONDITION', such as \"assay: status == 'A'\"", text)}
		}
		if own.Where == nil {
			own.Where = map[string]string{}
		}
		if have := own.Where[typ]; have != "" {
			condition = "(" + have + ") && (" + condition + ")"
		}
		own.Where[typ] = condition
	}
	out := r.Request
	var err error
	if r.Save != "" {
		if err := s.Workspace.CanSave(r.Save); err != nil {
			return out, err
		}
	}
	if out.Selection, err = choose.Selection(s, r.Saved, own); err != nil {
		return out, err
	}
	return out, nil
}

// keep saves the selection, once the export has shown that it can be carried out.
func keep(a *app, s *session.Session, r *present.Asked, done export.Request) error {
	if r.Save == "" {
		return nil
	}
	if err := choose.SaveSelection(s, r.Save, done.Selection); err != nil {
		return err
	}
	a.Note("The selection is in anagram.yaml as %s.", r.Save)
	return nil
}

func exportCommand(a *app) *cobra.Command {
	var r present.Asked
	cmd := &cobra.Command{
		Use:   "export ENV",
		Short: "Copy records of an environment into a new parcel",
		Long: `Copies records of an environment into a new parcel of the library. Nothing in the
environment is changed. Without --area, --type, --where or --record everything that
the catalog describes is exported.

What chosen records refer to comes along, and their parts with all that those refer
to; the parcel says for each record whether it was chosen and, if not, through what
it came along. --related parts or none brings less.`,
		Example: "  anagram export sandbox --area tests --note \"New year\"\n  anagram export sandbox --record panel/BMP\n  anagram export sandbox --where \"assay: status == 'A'\" --leave-out 'comment_code/*'",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			r.Environment = given[0]
			request, err := a.request(s, &r)
			if err != nil {
				return err
			}
			result, err := export.Export(cmd.Context(), s, request)
			if err != nil {
				return withoutMissing(a, err, request.Selection.Saved)
			}
			if err := keep(a, s, &r, request); err != nil {
				return err
			}
			return present.Export(a.Page, result)
		}),
	}
	selectionFlags(cmd, &r)
	cmd.Flags().BoolVar(&r.AsFolder, "as-folder", false, "a plain folder instead of one file, for version control")
	return cmd
}
