package refused

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/keys"
	"eastporch/internal/core/plain"
)

// A Setting is what requests are held against.
type Setting struct {
	Hosts            []string // that the public listener answers to
	VisitorPerSecond int
	KeyPerSecond     int
	Keys             func(context.Context) ([]keys.Key, error) // those that were revoked, too
}

// titles say what a kind is.
var titles = map[Kind]string{
	Origin: "Origin not listed", BadKey: "Key not known", NoKey: "No key", Host: "Host not served", Visitor: "Too many from one address",
	Busy: "Too many with one key", Scope: "Scope too small", Site: "Key for other sites",
}

const (
	week    = 7 * 24 * time.Hour
	perHour = int(time.Hour / fine)
)

// Report says what was refused in the last 7 days, what came most in the last hour first; of a site, "" for all. What
// no site is known of stands in each.
func (c *Counter) Report(ctx context.Context, set Setting, site string) (api.RefusedRequests, error) {
	if err := c.Flush(ctx); err != nil {
		return api.RefusedRequests{}, err
	}
	now := c.now().UTC()
	counts, examples, err := c.rows.Refused(ctx, now.Add(-week))
	if err != nil {
		return api.RefusedRequests{}, err
	}
	all, err := set.Keys(ctx)
	if err != nil {
		return api.RefusedRequests{}, err
	}
	out := api.RefusedRequests{From: now.Add(-week), To: now, Refused: []api.RefusedKind{}, Held: held(set, all)}
	by := map[Key]*api.RefusedKind{}
	for at, n := range counts {
		if site != "" && at.Site != "" && at.Site != site {
			continue
		}
		row := by[at.Key]
		if row == nil {
			row = &api.RefusedKind{Kind: string(at.Kind), Title: titles[at.Kind], Site: plain.Optional(at.Site), Detail: at.Detail, Hour: make([]int64, perHour), Day: make([]int64, 24), Lines: []string{}}
			by[at.Key] = row
		}
		row.LastWeek += n
		// The slot that runs is the last one.
		if ago := int(now.Truncate(fine).Sub(at.Time) / fine); ago < perHour {
			row.Hour[perHour-1-ago] += n
			row.LastHour += n
		}
		if ago := int(now.Truncate(time.Hour).Sub(at.Time.Truncate(time.Hour)) / time.Hour); ago < 24 {
			row.Day[23-ago] += n
			row.LastDay += n
		}
	}
	for of, row := range by {
		kept := examples[of]
		row.First = kept.First
		row.IsNew = !kept.First.Before(now.Truncate(24*time.Hour)) && row.LastHour > 0
		row.Example = api.RefusedExample{
			Time: kept.Time, Method: kept.Method, Route: kept.Route, Host: kept.Host, Origin: plain.Optional(kept.Origin), Key: plain.Optional(kept.Start), Status: kept.Status,
		}
		row.Text, row.Question, row.Lines = mend(of, kept.Example, set, all)
		out.LastHour += row.LastHour
		out.Refused = append(out.Refused, *row)
	}
	slices.SortFunc(out.Refused, func(a, b api.RefusedKind) int {
		return cmp.Or(cmp.Compare(b.LastHour, a.LastHour), cmp.Compare(b.LastDay, a.LastDay), cmp.Compare(b.LastWeek, a.LastWeek), cmp.Compare(a.Kind+a.Detail, b.Kind+b.Detail))
	})
	return out, nil
}

func held(set Setting, all []keys.Key) api.RefusedHeld {
	h := api.RefusedHeld{Hosts: len(set.Hosts), VisitorPerSecond: set.VisitorPerSecond}
	origins := map[string]bool{}
	for _, k := range all {
		if k.Revoked == nil {
			h.Keys++
			for _, origin := range k.Origins {
				origins[origin] = true
			}
		}
	}
	h.Origins = len(origins)
	return h
}

// What was sent stands in a line to copy only where it can be nothing but the name of a host, or an origin:
// whoever sends requests must not write what owners paste into their shell or configuration.
var (
	hostLike   = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]*[a-z0-9])?$`)
	originLike = regexp.MustCompile(`^https?://[a-z0-9]([a-z0-9.-]*[a-z0-9])?(:[0-9]{1,5})?$`)
)

// mend says what a kind of refusal means, whether it is somebody's of the owner's, and the lines that mend it then.
func mend(of Key, e Example, set Setting, all []keys.Key) (text, question string, lines []string) {
	lines = []string{}
	site := cmp.Or(of.Site, "heronlake.example")
	switch of.Kind {
	case Origin:
		name := of.Detail
		if u, err := url.Parse(of.Detail); err == nil && u.Host != "" {
			name = u.Host
		}
		text = "No key allows pages of this origin. Their visits are not stored."
		for _, k := range all {
			if e.Start != "" && k.Start == e.Start && k.Revoked == nil {
				text = fmt.Sprintf("%s allows %s, not this one. Its visits are not stored.", k.Name, cmp.Or(strings.Join(k.Origins, ", "), "no origin"))
			}
		}
		if originLike.MatchString(of.Detail) {
			question = "If " + name + " is yours"
			lines = append(lines, fmt.Sprintf("eastporch keys create %q --scope page --site %s --origin %s", name, site, of.Detail))
		}
	case BadKey:
		text = "Whoever asks has a key that was never made here, or is not whole."
		scope := keys.Page
		for _, k := range all {
			if of.Detail != "" && k.Start == of.Detail && k.Revoked != nil {
				text, scope = fmt.Sprintf("It was %q, and was revoked on %s.", k.Name, k.Revoked.UTC().Format("2 January 2006")), k.Scope
			}
		}
		if strings.HasPrefix(of.Detail, "porch_server_") {
			scope = keys.Server
		}
		question = "If whoever asks is yours, give it a new key"
		lines = append(lines, createLine(scope, site, e.Origin))
	case NoKey:
		text = "The request had no key: the header is missing, or a proxy removed it."
		question = "If whoever asks is yours, it sends"
		lines = append(lines, "# Authorization: Bearer KEY, with a key such as", createLine(keys.Page, site, e.Origin))
	case Host:
		text = "The public listener does not answer to this name, so that no page can point a name of its own here."
		if hostLike.MatchString(of.Detail) {
			question = "If " + of.Detail + " is yours"
			lines = append(lines, "public:", "  hosts: ["+strings.Join(append(slices.Clone(set.Hosts), of.Detail), ", ")+"]")
		}
	case Visitor:
		text = fmt.Sprintf("limits.visitor_per_second is %d. Is the one address your own proxy, through which all visitors come? Then trust it, as the checkup says.", set.VisitorPerSecond)
		question = "If it is one visitor, or many behind one address"
		lines = append(lines, "limits:", fmt.Sprintf("  visitor_per_second: %d", 2*set.VisitorPerSecond))
	case Busy:
		text = fmt.Sprintf("limits.key_per_second is %d.", set.KeyPerSecond)
		question = "If so many are meant"
		lines = append(lines, "limits:", fmt.Sprintf("  key_per_second: %d", 2*set.KeyPerSecond))
	case Scope:
		text = "The key may not ask this."
		question = "If whoever asks is yours, give it a key that may"
		scope := keys.Server
		if strings.Contains(of.Detail, "wants admin") {
			scope = keys.Admin
		}
		lines = append(lines, createLine(scope, site, ""))
	case Site:
		text = "The key is bound to other sites."
		question = "If whoever asks is yours, give it a key for " + site
		lines = append(lines, createLine(keys.Server, site, e.Origin))
	}
	return text, question, lines
}

// createLine makes a key.
func createLine(scope keys.Scope, site, origin string) string {
	line := "eastporch keys create NAME --scope " + string(scope)
	if scope != keys.Admin {
		line += " --site " + site
	}
	if scope == keys.Page && originLike.MatchString(origin) {
		line += " --origin " + origin
	}
	return line
}

// Mend is the line that mends a refusal, for the log.
func Mend(of Key, e Example, set Setting) string {
	_, question, lines := mend(of, e, set, nil)
	return strings.TrimSpace(question + ": " + strings.Join(lines, " "))
}

// Findings are those of the last hour for the checkup, one of each kind. What strangers ask who go from address
// to address, by no name and with no key of ours, is in the report alone: there is nothing to mend.
func (c *Counter) Findings(ctx context.Context, set Setting) []checkup.Diagnostic {
	report, err := c.Report(ctx, set, "")
	if err != nil {
		return nil // the database is away, which says enough
	}
	var list []checkup.Diagnostic
	seen := map[string]bool{}
	for _, r := range report.Refused {
		if r.LastHour == 0 || seen[r.Kind] || len(r.Lines) == 0 || r.Detail == NotWhole {
			continue
		}
		seen[r.Kind] = true
		title := fmt.Sprintf("Refused in the last hour: %s (%d).", strings.ToLower(r.Title), r.LastHour)
		text := r.Text
		if r.Detail != "" {
			text = r.Detail + ": " + text
		}
		if r.Question != "" {
			text += " " + r.Question + ":"
		}
		where := ""
		switch Kind(r.Kind) {
		case Host, Visitor, Busy:
			where = checkup.InConfiguration
		default:
			where = checkup.InShell
		}
		if len(r.Lines) == 0 {
			where = ""
		}
		list = append(list, checkup.Diagnostic{Name: "refused-" + r.Kind, State: checkup.Attention, Title: title, Text: text, Where: where, Lines: r.Lines})
	}
	return list
}
