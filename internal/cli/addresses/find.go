package addresses

import (
	"encoding/json"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/addr"
)

// foundAnswer is one thing that find found.
type foundAnswer struct {
	File    string  `json:"file"`
	Line    int     `json:"line"`
	Offset  int64   `json:"offset"`
	Text    string  `json:"text"`
	Address *string `json:"address"` // or prefix; nil for a look-alike
	Kind    *string `json:"kind"`
	Other   *string `json:"other"`  // a second reading that is as good
	Note    *string `json:"note"`   // an unusual spelling, or what the other is
	Reason  *string `json:"reason"` // why it is none
}

// FindCommand finds addresses in text.
func FindCommand(a *terminal.App) *cobra.Command {
	var rejected bool
	cmd := &cobra.Command{
		Use:   "find [FILE…]",
		Short: "Find every address and prefix in a text of any size",
		Long: `Reads files, or standard input, and prints every address and prefix with its
line, as it reads: also percent-encoded, reverse names (in-addr.arpa, ip6.arpa)
and defanged as 192.0.2[.]85. Where a text has two readings, such as
2001:db8::5:8080, both are given. With --rejected it prints look-alikes too
(version numbers, times, MAC addresses, scope operators), with the reason.
Works offline.`,
		Example: `  eastporch find access.log
  journalctl | eastporch find --output ndjson
  eastporch find --rejected notes.txt`,
		RunE: func(cmd *cobra.Command, files []string) error {
			if len(files) == 0 {
				files = []string{"-"}
			}
			out := writerOfFound(a)
			for _, name := range files {
				if err := findIn(a, cmd, name, rejected, out); err != nil {
					return err
				}
			}
			return out.end()
		},
	}
	cmd.Flags().BoolVar(&rejected, "rejected", false, "print look-alikes too, with the reason")
	return cmd
}

func findIn(a *terminal.App, cmd *cobra.Command, name string, rejected bool, out *foundWriter) error {
	var in io.Reader = a.In
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	return addr.Find(in, func(f addr.Found) error {
		if err := cmd.Context().Err(); err != nil {
			return err
		}
		if f.Reason != "" && !rejected {
			return nil
		}
		answer := foundAnswer{File: name, Line: f.Line, Offset: f.Offset, Text: f.Text}
		if f.Reason != "" {
			answer.Reason = &f.Reason
		} else {
			text, kind := f.Prefix.String(), addr.KindOf(f.Prefix.Addr()).String()
			if f.Prefix.IsSingleIP() {
				text = f.Prefix.Addr().String()
			}
			answer.Address, answer.Kind = &text, &kind
			if f.Other.IsValid() {
				other := f.Other.Addr().String()
				answer.Other = &other
			}
			if f.Note != "" {
				answer.Note = &f.Note
			}
		}
		return out.write(answer)
	})
}

// foundWriter writes answers as they come, in the chosen form.
type foundWriter struct {
	a     *terminal.App
	count int
}

func writerOfFound(a *terminal.App) *foundWriter { return &foundWriter{a: a} }

func (w *foundWriter) write(f foundAnswer) error {
	w.count++
	switch w.a.Output {
	case "ndjson", "json":
		separator := ""
		if w.a.Output == "json" {
			separator = ",\n"
			if w.count == 1 {
				separator = "[\n"
			}
		}
		text, err := json.Marshal(f)
		if err != nil {
			return err
		}
		if w.a.Output == "ndjson" {
			text = append(text, '\n')
		}
		_, err = fmt.Fprintf(w.a.Out, "%s%s", separator, text)
		return err
	}
	if f.Reason != nil {
		_, err := fmt.Fprintf(w.a.Out, "%6d  %-28s  none: %s\n", f.Line, f.Text, *f.Reason)
		return err
	}
	note := ""
	if f.Note != nil {
		note = "  (" + *f.Note + ")"
	}
	_, err := fmt.Fprintf(w.a.Out, "%6d  %-28s  %s%s\n", f.Line, *f.Address, *f.Kind, note)
	return err
}

func (w *foundWriter) end() error {
	if w.a.Output != "json" {
		return nil
	}
	text := "\n]\n"
	if w.count == 0 {
		text = "[]\n"
	}
	_, err := io.WriteString(w.a.Out, text)
	return err
}
