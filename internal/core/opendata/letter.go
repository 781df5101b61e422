package opendata

import (
	"bytes"
	_ "embed"
	"fmt"
	"text/template"
)

//go:embed letter.txt
var letter string

var letterTemplate = template.Must(template.New("letter").Parse(letter))

// Letter is what to write to the operator of a network whose geofeed would help: gain of its
// visits in some days would be known to a town.
func Letter(as uint32, operator string, days, visits, gain int) string {
	number := fmt.Sprint("AS", as)
	if operator == "" {
		operator = number
	}
	var out bytes.Buffer
	_ = letterTemplate.Execute(&out, struct { // of texts and numbers
		Operator, AS       string
		Days, Visits, Gain int
	}{operator, number, days, visits, gain})
	return out.String()
}
