package refusal

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/gate"
	"eastporch/internal/core/link"
	"eastporch/internal/core/locale"
)

// What is offered in some languages is read in the same one by a card, by a link's routes and
// by those who are refused.
func TestOneLanguageEverywhere(t *testing.T) {
	tags := []string{"en", "en-GB", "de", "de-CH", "fr", "fr-CA", "pt", "pt-PT", "pt-BR", "nb", "nn", "no", "zh", "zh-Hant", "zh-Hans", "sr", "sr-Latn", "ja", "ko"}
	wanted := append([]string{"zh-CN", "zh-TW", "zh-HK", "cmn", "cmn-Hant", "pt-AO", "gsw", "sr-Latn-RS", "en-AU", "ru", "es-MX", "*", "de-AT", "nn-NO", "x;q=nonsense"}, tags...)
	r := rand.New(rand.NewPCG(33, 4))
	spaceless := strings.NewReplacer(" ", "")
	const tried = 5000
	differed, suited := 0, 0
	for range tried {
		offered := slices.Clone(tags)
		r.Shuffle(len(offered), func(i, j int) { offered[i], offered[j] = offered[j], offered[i] })
		offered = offered[:1+r.IntN(5)]
		var accept []string
		for range 1 + r.IntN(3) {
			accept = append(accept, fmt.Sprintf("%s;q=0.%d", wanted[r.IntN(len(wanted))], 1+r.IntN(9)))
		}
		header := spaceless.Replace(strings.Join(accept, ","))
		site, err := locale.NewLanguages(offered, offered[0])
		require.NoError(t, err)
		card := site.Negotiate("", header, nil)
		texts := map[string]string{}
		said := link.Said{Destination: "/" + offered[0]}
		for _, tag := range offered {
			texts[tag] = tag
			said.Routes = append(said.Routes, link.Route{Languages: []string{tag}, Destination: "/" + tag})
		}
		to, _ := link.Compile(link.Link{Said: said}, nil, offered[0]).Choose(link.Visitor{Accept: header}, "", "")
		_, _, text := Subject{Refusal: gate.Refusal{Texts: texts}, Accept: header, Default: offered[0]}.First()
		if card.Reason == locale.ByHeader {
			suited++
		}
		if !assert.Equal(t, []string{card.Language, card.Language}, []string{to[1:], text}, "%s is asked for, of %v", header, offered) {
			differed++
		}
	}
	t.Logf("%d offers and questions, %d with a language that suits: %d differed", tried, suited, differed)
}
