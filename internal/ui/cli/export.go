package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/flow/choose"
	"anagram/internal/flow/export"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
	"anagram/internal/ui/text"
)

// asked is what a person asked to be exported.
type asked struct {
	export.Request
	where       []string
	saved, save string
}

// selectionFlags are the flags that say what to export.
func selectionFlags(cmd *cobra.Command, r *asked) {
	flags := cmd.Flags()
	flags.StringSliceVar(&r.Selection.Areas, "area", nil, "an area of the catalog (may be given more than once)")
	flags.StringSliceVar(&r.Selection.Types, "type", nil, "a record type (may be given more than once)")
	flags.StringArrayVar(&r.Selection.Records, "record", nil, "the address of a record, or a pattern (may be given more than once)")
	flags.StringArrayVar(&r.where, "where", nil, "'TYPE: CONDITION': only records that fulfil it (may be given more than once)")
	flags.StringVar(&r.Selection.ChangedSince, "changed-since", "", "only what changed since a date, a time, or last-import:TARGET")
	flags.StringArrayVar(&r.Selection.LeaveOut, "leave-out", nil, "a pattern of records to leave out (may be given more than once)")
	flags.StringVar(&r.Selection.Related, "related", "", "what comes along: all (as far as it is needed), parts or none")
	flags.BoolVar(&r.Selection.NoFiles, "no-files", false, "leave attachments out")
	flags.StringVar(&r.saved, "selection", "", "a selection that anagram.yaml has under this name")
	flags.StringVar(&r.save, "save-selection", "", "keep this selection in anagram.yaml under a name")
	flags.StringVar(&r.Name, "name", "", "name of the parcel (else made from environment, date and time)")
	flags.StringVar(&r.Note, "note", "", "a note for those who read the parcel later")
}

// exportFlags are those that only mean something where records are exported.
var exportFlags = []string{"area", "type", "record", "where", "changed-since", "leave-out", "related", "no-files", "selection", "save-selection", "name", "note"}

// request makes the request of what was asked.
func (a *app) request(s *session.Session, r *asked) (export.Request, error) {
	own := r.Selection
	for _, text := range r.where {
		typ, condition, ok := strings.Cut(text, ":")
		typ, condition = strings.TrimSpace(typ), strings.TrimSpace(condition)
		if !ok || typ == "" || condition == "" {
			return r.Request, &session.UsageError{Message: fmt.Sprintf("--where %q is written as 'TYPE: CONDITION', such as \"assay: status == 'A'\"", text)}
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
	if r.save != "" {
		if err := s.Workspace.CanSave(r.save); err != nil {
			return out, err
		}
	}
	if out.Selection, err = choose.Selection(s, r.saved, own); err != nil {
		return out, err
	}
	return out, nil
}

// keep saves the selection, once the export has shown that it can be carried out.
func (a *app) keep(s *session.Session, r *asked, done export.Request) error {
	if r.save == "" {
		return nil
	}
	if err := choose.SaveSelection(s, r.save, done.Selection); err != nil {
		return err
	}
	a.note("The selection is in anagram.yaml as %s.", r.save)
	return nil
}

func (a *app) exportCommand() *cobra.Command {
	var r asked
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
				return a.withoutMissing(err, request.Selection.Saved)
			}
			if err := a.keep(s, &r, request); err != nil {
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

func (a *app) printExport(result export.Result) error {
	m := result.Manifest
	if a.json {
		types := []typeCount{}
		for _, t := range m.Types {
			types = append(types, typeCount{Type: t.Name, Chosen: t.Chosen, Along: t.Records - t.Chosen})
		}
		return a.printJSON(map[string]any{
			"parcel": m.Name, "file": result.File, "source": m.Source,
			"records": map[string]int{"chosen": m.Chosen(), "along": m.Records() - m.Chosen()}, "types": types, "files": len(m.Files), "bytes": result.Bytes,
			"referred": referredCount(m),
		})
	}
	text := fmt.Sprintf("Exported %s of %s from %s into parcel %s", count(m.Records(), "record"), count(len(m.Types), "record type"), m.Source, m.Name)
	if along := m.Records() - m.Chosen(); along > 0 {
		text += fmt.Sprintf(": %d chosen and %d that came along", m.Chosen(), along)
	}
	if len(m.Files) > 0 {
		text += ", with " + count(len(m.Files), "attachment")
	}
	printf(a.Out, "%s\n\n", a.wrap(text+".", ""))
	printTypeCounts(a, m)
	printReferred(a, m)
	if len(result.Unstamped) > 0 {
		fmt.Fprintln(a.Out, "\n"+a.wrap(fmt.Sprintf("Without stamps, so all of their records are chosen: %s.", strings.Join(result.Unstamped, ", ")), ""))
	}
	if len(result.NeverBrought) > 0 {
		fmt.Fprintln(a.Out, "\n"+a.wrap(fmt.Sprintf("In no import so far, so all of their records are chosen: %s.", strings.Join(result.NeverBrought, ", ")), ""))
	}
	if len(result.UnstampedParts) > 0 {
		fmt.Fprintln(a.Out, "\n"+a.wrap(fmt.Sprintf("Parts without stamps, taken only with an owner that is taken: %s.", strings.Join(result.UnstampedParts, ", ")), ""))
	}
	if len(result.LeftNothing) > 0 {
		fmt.Fprintln(a.out(), "\n"+a.wrap(tone("caution")+fmt.Sprintf(" No record fits what was to be left out: %s.", strings.Join(result.LeftNothing, ", ")), ""))
	}
	printf(a.Out, "\n%s (%s)\n", result.File, size(result.Bytes))
	a.next("anagram match", arg(m.Name), "--against ENVIRONMENT")
	return nil
}

func referredCount(m parcel.Manifest) int {
	if m.Referred == nil {
		return 0
	}
	return m.Referred.Records
}

func printReferred(a *app, m parcel.Manifest) {
	if n := referredCount(m); n > 0 {
		verb := "are"
		if n == 1 {
			verb = "is"
		}
		printf(a.Out, "\n%s\n", a.wrap(fmt.Sprintf("%s %s only referred to and not in the parcel.", count(n, "record"), verb), ""))
	}
}

func printTypeCounts(a *app, m parcel.Manifest) {
	t := text.Table{Columns: []string{"record type", ">records"}}
	along := m.Records() > m.Chosen()
	if along {
		t.Columns = []string{"record type", ">chosen", ">along"}
	}
	for _, typ := range m.Types {
		if along {
			t.Add(typ.Name, dot(typ.Chosen), dot(typ.Records-typ.Chosen))
		} else {
			t.Add(typ.Name, fmt.Sprint(typ.Records))
		}
	}
	a.printTable(t, "  ")
}
