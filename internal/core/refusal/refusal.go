// Package refusal writes the page that is shown to whoever a gate refuses: in the visitor's language first,
// then in the site's, readable on a phone, to screen readers and without scripts.
package refusal

import (
	"bytes"
	"cmp"
	_ "embed"
	"fmt"
	"html/template"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/language"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/locale"
)

//go:embed refusal.html
var standard string

// Words are what the page says in one language.
type words struct{ title, thought, writeTitle, writeText, write, restTitle, rest, reference string }

// languages are those that the page speaks by itself, the first where no other suits. %s is the name of a
// country.
var languages = []struct {
	tag string
	words
}{
	{"en", words{"This page is not open where you are.", "We think that you are in this country: %s.", "Are we wrong, or do you need access?", "Give the reference below.", "Write to us", "The rest is open to all.", "See the other pages", "Reference"}},
	{"de", words{"Diese Seite ist dort, wo Sie sind, nicht zugänglich.", "Wir vermuten Sie in diesem Land: %s.", "Irren wir uns, oder brauchen Sie Zugang?", "Nennen Sie die Referenz unten.", "Schreiben Sie uns", "Alles andere ist für alle offen.", "Zu den anderen Seiten", "Referenz"}},
	{"fr", words{"Cette page n’est pas accessible là où vous êtes.", "Nous pensons que vous êtes dans ce pays : %s.", "Une erreur, ou besoin d’un accès ?", "Indiquez la référence ci-dessous.", "Nous écrire", "Le reste est ouvert à tous.", "Voir les autres pages", "Référence"}},
	{"es", words{"Esta página no está disponible donde usted se encuentra.", "Creemos que está en este país: %s.", "¿Nos equivocamos o necesita acceso?", "Indique la referencia de abajo.", "Escríbanos", "El resto está abierto a todos.", "Ver las demás páginas", "Referencia"}},
	{"pt", words{"Esta página não está disponível onde se encontra.", "Pensamos que está neste país: %s.", "Estamos enganados, ou precisa de acesso?", "Indique a referência abaixo.", "Escrever-nos", "O resto está aberto a todos.", "Ver as outras páginas", "Referência"}},
	{"it", words{"Questa pagina non è disponibile dove si trova.", "Pensiamo che si trovi in questo paese: %s.", "Ci sbagliamo, o le serve l’accesso?", "Indichi il riferimento qui sotto.", "Scriverci", "Il resto è aperto a tutti.", "Vedere le altre pagine", "Riferimento"}},
	{"nl", words{"Deze pagina is niet beschikbaar waar u bent.", "Wij denken dat u in dit land bent: %s.", "Hebben wij het mis, of hebt u toegang nodig?", "Vermeld de referentie hieronder.", "Schrijf ons", "De rest is voor iedereen open.", "Naar de andere pagina’s", "Referentie"}},
	{"nb", words{"Denne siden er ikke åpen der du er.", "Vi tror at du er i dette landet: %s.", "Tar vi feil, eller trenger du tilgang?", "Oppgi referansen nedenfor.", "Skriv til oss", "Resten er åpent for alle.", "Se de andre sidene", "Referanse"}},
	{"ja", words{"お使いの地域では、このページをご覧いただけません。", "ご利用の国は次のとおりと推定されます：%s", "誤りがある場合、または閲覧が必要な場合", "下の参照番号をお知らせください。", "お問い合わせ", "ほかのページはどなたでもご覧いただけます。", "ほかのページを見る", "参照番号"}},
}

var spoken = sync.OnceValue(func() *locale.Matcher {
	tags := make([]language.Tag, len(languages))
	for i, l := range languages {
		tags[i] = language.Make(l.tag)
	}
	return locale.NewMatcher(tags)
})

// A Template is how pages of refusal look. It is immutable and safe for concurrent use.
type Template struct{ parsed *template.Template }

// Standard is the page where an owner has none. It is read when it is first asked for.
var Standard = sync.OnceValue(func() *Template {
	t, err := Parse(standard)
	if err != nil {
		panic("refusal: " + err.Error()) // it is embedded
	}
	return t
})

// Parse reads an owner's template (Go's html/template) over a [Page]. The error names the line.
func Parse(text string) (*Template, error) {
	parsed, err := template.New("refusal").Option("missingkey=error").Parse(text)
	if err != nil {
		return nil, err
	}
	t := &Template{parsed}
	_, err = t.Write(Subject{Site: "heronlake.example", Reference: gate.Reference{Code: "5F2K-81QD", CountryCode: "PT"}}, "nonce") // what it names must be there
	return t, err
}

// A Subject is who is refused what.
type Subject struct {
	Site      string // its name
	Reference gate.Reference
	Refusal   gate.Refusal
	Accept    string // the Accept-Language header
	Default   string // the site's language, BCP 47
	TimeZone  string // of the site, IANA
}

// A Page is what a template may show.
type Page struct {
	part
	Nonce string // for style and script elements of the page's own
	Site  string
	// Contact and Elsewhere are addresses to link to, or "". Thought says in which country the visitor is
	// thought to be.
	Contact, Elsewhere                                           template.URL
	WriteTitle, WriteText, Write, RestTitle, Rest, ReferenceWord string
	Reference, Time                                              string
	Also                                                         *part // the same in the site's language; nil where that is the visitor's
}

// part is what stands there twice.
type part struct{ Language, Direction, Title, Text, Thought string }

// Write gives the page. The nonce is that of its content-security policy.
func (t *Template) Write(s Subject, nonce string) ([]byte, error) {
	wanted := locale.Asked(s.Accept)
	if len(wanted) == 0 {
		wanted = []language.Tag{language.Make(cmp.Or(s.Default, "en"))}
	}
	first, w := s.in(wanted)
	p := Page{
		part: first, Nonce: nonce, Site: s.Site, WriteTitle: w.writeTitle, WriteText: w.writeText, Write: w.write, RestTitle: w.restTitle, Rest: w.rest,
		ReferenceWord: w.reference, Reference: s.Reference.Code, Elsewhere: template.URL(s.Refusal.Elsewhere),
	}
	if c := s.Refusal.Contact; c != "" {
		if p.Contact = template.URL(c); !strings.Contains(c, "://") {
			p.Contact = template.URL("mailto:" + c + "?subject=" + template.URLQueryEscaper(s.Reference.Code))
		}
	}
	if s.Reference.At > 0 {
		zone, err := time.LoadLocation(cmp.Or(s.TimeZone, "UTC"))
		if err != nil {
			zone = time.UTC
		}
		p.Time = time.Unix(s.Reference.At, 0).In(zone).Format("2006-01-02 15:04 MST")
	}
	if second, _ := s.in([]language.Tag{language.Make(cmp.Or(s.Default, "en"))}); second.Title != first.Title || second.Text != first.Text {
		p.Also = &second
	}
	var b bytes.Buffer
	if err := t.parsed.Execute(&b, p); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// First is what stands first on the page: its language, title and text.
func (s Subject) First() (tag, title, text string) {
	wanted := locale.Asked(s.Accept)
	if len(wanted) == 0 {
		wanted = []language.Tag{language.Make(cmp.Or(s.Default, "en"))}
	}
	p, _ := s.in(wanted)
	return p.Language, p.Title, strings.TrimSpace(p.Text + " " + p.Thought)
}

// in says it in the first of some languages that the page, or the owner's texts, speak.
func (s *Subject) in(wanted []language.Tag) (part, words) {
	own, ownTag := s.own(wanted)
	if ownTag != language.Und {
		wanted = []language.Tag{ownTag} // all of it in one language, if there is
	}
	i, _ := spoken().Best(wanted...)
	w := languages[i]
	tag := w.tag
	if ownTag != language.Und {
		tag = ownTag.String()
	}
	p := part{Language: tag, Direction: locale.DirectionOf(tag), Title: w.title, Text: own}
	if s.Reference.CountryCode != "" {
		p.Thought = fmt.Sprintf(w.thought, almanac.NameIn(s.Reference.CountryCode, w.tag))
	}
	return p, w.words
}

// own finds the owner's text in the language that suits best.
func (s *Subject) own(wanted []language.Tag) (string, language.Tag) {
	if len(s.Refusal.Texts) == 0 {
		return "", language.Und
	}
	tags := []language.Tag{}
	for _, tag := range append([]string{s.Default, "en"}, slices.Sorted(maps.Keys(s.Refusal.Texts))...) { // the first stands where none suits
		if s.Refusal.Texts[tag] != "" {
			tags = append(tags, language.Make(tag))
		}
	}
	if len(tags) == 0 {
		return "", language.Und
	}
	i, _ := locale.NewMatcher(tags).Best(wanted...)
	for tag, text := range s.Refusal.Texts {
		if language.Make(tag) == tags[i] {
			return text, tags[i]
		}
	}
	return "", language.Und
}
