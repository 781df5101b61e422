package documents

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/testkit/live"
)

// verbed are the commands of each kind of document, the name of one, and a file of it; # stands for a number.
var verbed = []struct {
	command, name, file string
	isDropped           bool
}{
	{"variants", "coats", "name: coats\ndefault: coat-#\nrules: []\n", true},
	{"corrections", "198.18.77.0/24", "country_code: PT\nnote: moved #\n", true},
	{"companions", "sky", "title: Sky #\nurl: https://sky.example/\nenabled: false\nvalues:\n  - { name: wind, pointer: /wind, type: number }\n", true},
	{"notices channel", "post", "kind: mail\nserver: mail.example:25\nsecurity: none\nfrom: porch@heronlake.example\na_day: #\n", true},
	{"notices", "first", "title: First #\nenabled: false\ntrigger: { kind: country, days: 90 }\nchannel: carrier\nto: [ida@crew.example]\nsubject: A visit\ntext: It came.\n", true},
	{"links", "posters", "destination: /tickets\nnote: Posters #\n", false},
	{"gate", "", "gates:\n  - name: Early #\n    path: /early/**\n    mode: watch\n    list: deny\n    missing: { no_data: admit, not_found: admit, skipped: admit, unknown: admit }\n    rules:\n      - countries: [NZ]\n", false},
}

// numbered is the number that stands for # in a file.
var numbered = regexp.MustCompile(`\b1[0-2]\d\b`)

// handedOut is the example of saving, and its file.
var handedOut = regexp.MustCompile(`(?m)^  eastporch .*save .*?(\S+\.yaml)`)

// All kinds take the same verbs, in any order: a model that is a list of texts says what is shown, what the history has, and
// what is refused.
func TestTheVerbsOfDocuments(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	dir := t.TempDir()
	carrier := filepath.Join(dir, "carrier.yaml")
	require.NoError(t, os.WriteFile(carrier, []byte("kind: mail\nserver: mail.example:25\nsecurity: none\nfrom: porch@heronlake.example\n"), 0o600))
	made := live.RunCLI(t, s, "notices", "channel", "save", "carrier", carrier)
	require.Zero(t, made.Code, made.Err)
	for n, kind := range verbed {
		t.Run(kind.command, func(t *testing.T) {
			random := rand.New(rand.NewPCG(34, uint64(n)))
			file := filepath.Join(t.TempDir(), "said.yaml")
			do := func(verb string, more ...string) live.Done {
				args := append(strings.Fields(kind.command), verb)
				if kind.name != "" {
					args = append(args, kind.name)
				}
				return live.RunCLI(t, s, append(args, more...)...)
			}
			help := do("save", "--help").Out
			example := handedOut.FindStringSubmatch(help)
			require.NotNil(t, example, help)
			assert.Equal(t, filepath.Base(example[1]), example[1], "the file of the example is in no directory that nobody made")
			var revisions []string // what each shows; "" for one that dropped it
			shown := func() string { return do("show", "--file", "-").Out }
			for turn := range 25 {
				there := len(revisions) > 0 && revisions[len(revisions)-1] != ""
				switch verb := random.IntN(4); {
				case verb < 2 || len(revisions) == 0:
					if verb == 0 && there { // what show wrote, edited
						require.NoError(t, os.WriteFile(file, []byte(numbered.ReplaceAllString(shown(), strconv.Itoa(turn+100))), 0o600))
					} else {
						require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(kind.file, "#", strconv.Itoa(turn+100))), 0o600))
					}
					d := do("save", file)
					require.Zero(t, d.Code, d.Err)
					assert.Contains(t, shown(), strconv.Itoa(turn+100))
					revisions = append(revisions, shown())
				case verb == 2 && kind.isDropped:
					d := do("drop")
					assert.Equal(t, there, d.Code == 0, "%s%s", d.Out, d.Err)
					if there {
						revisions = append(revisions, "")
						assert.NotZero(t, do("show").Code)
					}
				default:
					back := 1 + random.IntN(len(revisions)+1)
					d := do("history", "--return", strconv.Itoa(back))
					can := back <= len(revisions) && (there || revisions[back-1] != "") // what is dropped already is not dropped again
					assert.Equal(t, can, d.Code == 0, "back to %d of %q: %s%s", back, revisions, d.Out, d.Err)
					if can {
						revisions = append(revisions, revisions[back-1])
					}
				}
				assert.Equal(t, revisions[len(revisions)-1], shown(), "after %d revisions", len(revisions))
			}
			var history []api.DocumentRevision
			require.NoError(t, json.Unmarshal([]byte(do("history", "--limit", "100", "--output", "json").Out), &history))
			require.Len(t, history, len(revisions))
			for i, r := range history {
				at := len(revisions) - 1 - i
				assert.EqualValues(t, at+1, r.Revision)
				assert.Equal(t, revisions[at] == "", r.Dropped, fmt.Sprint(at))
			}
		})
	}
}
