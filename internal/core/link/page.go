package link

import (
	"bytes"
	"cmp"
	_ "embed"
	"html/template"
	"sync"

	"golang.org/x/text/language"

	"eastporch/internal/core/locale"
)

//go:embed page.html
var standard string

// words are what the page says in one language: of a code that no link has, and of a link that has ended.
type words struct{ unknown, check, ended, inquire, home string }

// spoken are the languages of the page, the first where no other suits.
var spoken = []struct {
	tag string
	words
}{
	{"en", words{"There is no such link.", "Compare the address with what was printed.", "This link has ended.", "What you look for may be on our pages.", "Go to our pages"}},
	{"de", words{"Diesen Link gibt es nicht.", "Vergleichen Sie die Adresse mit der gedruckten.", "Dieser Link ist nicht mehr gültig.", "Vielleicht finden Sie das Gesuchte auf unseren Seiten.", "Zu unseren Seiten"}},
	{"fr", words{"Ce lien n’existe pas.", "Comparez l’adresse avec celle qui est imprimée.", "Ce lien n’est plus valable.", "Vous trouverez peut-être votre réponse sur nos pages.", "Voir nos pages"}},
	{"es", words{"Este enlace no existe.", "Compare la dirección con la impresa.", "Este enlace ya no es válido.", "Quizá encuentre lo que busca en nuestras páginas.", "Ver nuestras páginas"}},
	{"pt", words{"Este link não existe.", "Compare o endereço com o que foi impresso.", "Este link já não é válido.", "Talvez encontre o que procura nas nossas páginas.", "Ver as nossas páginas"}},
	{"it", words{"Questo link non esiste.", "Confronti l’indirizzo con quello stampato.", "Questo link non è più valido.", "Forse trova ciò che cerca sulle nostre pagine.", "Vedere le nostre pagine"}},
	{"nl", words{"Deze link bestaat niet.", "Vergelijk het adres met wat er gedrukt staat.", "Deze link is niet meer geldig.", "Misschien vindt u wat u zoekt op onze pagina’s.", "Naar onze pagina’s"}},
	{"nb", words{"Denne lenken finnes ikke.", "Sammenlign adressen med den som er trykt.", "Denne lenken gjelder ikke lenger.", "Kanskje finner du det du leter etter på sidene våre.", "Til sidene våre"}},
	{"ja", words{"このリンクは存在しません。", "印刷されたアドレスと見比べてください。", "このリンクは終了しました。", "お探しの内容は当サイトにあるかもしれません。", "サイトへ"}},
}

var speaks = sync.OnceValue(func() *locale.Matcher {
	tags := make([]language.Tag, len(spoken))
	for i, l := range spoken {
		tags[i] = language.Make(l.tag)
	}
	return locale.NewMatcher(tags)
})

// A Template is how the page looks for whoever asks for an unknown link, or one that has ended. It is immutable
// and safe for concurrent use.
type Template struct{ parsed *template.Template }

// Standard is the page where an owner has none. It is read when it is first asked for.
var Standard = sync.OnceValue(func() *Template {
	t, err := Parse(standard)
	if err != nil {
		panic("link: " + err.Error()) // it is embedded
	}
	return t
})

// A Missing is who asks for an unknown link.
type Missing struct {
	Site    string // its name
	Home    string // where the site is
	Ended   bool   // there was such a link
	Accept  string // the Accept-Language header
	Default string // the site's language, BCP 47
}

// A Notice is what a template may show. Nonce is for style and script elements of the page's own.
type Notice struct {
	Nonce, Language, Direction, Site, Title, Text, Go string
	Home                                              template.URL
	Ended                                             bool
}

// Parse reads an owner's template (Go's html/template) over a [Notice]. The error names the line.
func Parse(text string) (*Template, error) {
	parsed, err := template.New("link").Option("missingkey=error").Parse(text)
	if err != nil {
		return nil, err
	}
	t := &Template{parsed}
	_, err = t.Write(Missing{Site: "heronlake.example", Home: "/"}, "nonce") // what it names must be there
	return t, err
}

// Write gives the page. The nonce is that of its content-security policy.
func (t *Template) Write(m Missing, nonce string) ([]byte, error) {
	wanted := locale.Asked(m.Accept)
	if len(wanted) == 0 {
		wanted = []language.Tag{language.Make(cmp.Or(m.Default, "en"))}
	}
	i, _ := speaks().Best(wanted...)
	w := spoken[i]
	n := Notice{Nonce: nonce, Language: w.tag, Direction: locale.DirectionOf(w.tag), Site: m.Site, Title: w.unknown, Text: w.check, Go: w.home, Home: template.URL(m.Home), Ended: m.Ended}
	if m.Ended {
		n.Title, n.Text = w.ended, w.inquire
	}
	var b bytes.Buffer
	if err := t.parsed.Execute(&b, n); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
