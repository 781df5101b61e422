package addresses

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/card"
	"eastporch/internal/core/plain"
)

// An answerer gives what is known of addresses, in their order, or why there is nothing of one. The error says why
// there are no more answers at all.
type answerer[T any] func(ctx context.Context, list []string) ([]answered[T], error)

type answered[T any] struct {
	of  T
	err error
}

// A layout is how answers are written: what of one is written as data, and its line of text with the names of
// its columns.
type layout[T any] struct {
	data func(T) any
	head string
	line func(T) string
}

const (
	atOnce      = 1000 // addresses that are asked for together, where so many are there
	longestLine = 4096 // bytes
)

// stream answers for the lines of standard input as they come, and keeps none of them.
func stream[T any](ctx context.Context, a *terminal.App, ask answerer[T], as layout[T]) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines, broken := read(ctx, a)
	out := terminal.NewStream(a)
	done, failed := 0, 0
	write := func(list []string) error {
		all, err := ask(ctx, list)
		for i, one := range all {
			done++
			if one.err != nil {
				failed++
				a.Note(fmt.Sprintf("%.80s: %s", plain.Clean(list[i], 80), strings.TrimSuffix(one.err.Error(), ".")))
				continue
			}
			if err := out.Write(as.data(one.of), as.head, as.line(one.of)); err != nil {
				return err
			}
		}
		return errors.Join(err, out.Flush())
	}
	var err error
	for list := next(ctx, lines); len(list) > 0 && err == nil; list = next(ctx, lines) {
		err = write(list)
	}
	stopped := ctx.Err() != nil
	cancel()
	closed := out.Close()
	switch {
	case stopped:
		err = fmt.Errorf("stopped after %s", plain.Count(done, "address"))
	case err != nil:
		err = fmt.Errorf("after %s: %w", plain.Count(done, "address"), err)
	case failed > 0:
		err = fmt.Errorf("without an answer: %d of %s", failed, plain.Count(done, "address"))
	}
	select {
	case wrong := <-broken:
		return errors.Join(err, closed, wrong)
	default: // it waits for a line that nobody wants any more
		return errors.Join(err, closed)
	}
}

// read gives the lines of standard input that are not empty, and afterwards what went wrong.
func read(ctx context.Context, a *terminal.App) (<-chan string, <-chan error) {
	lines, broken := make(chan string, atOnce), make(chan error, 1)
	go func() {
		defer close(lines)
		in := bufio.NewScanner(a.In)
		in.Buffer(nil, longestLine)
		n := 0
		for in.Scan() {
			n++
			line := strings.TrimSpace(in.Text())
			if line == "" {
				continue
			}
			select {
			case lines <- line:
			case <-ctx.Done():
				broken <- nil
				return
			}
		}
		err := in.Err()
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("line %d is longer than %d bytes: give one address a line", n+1, longestLine)
		}
		broken <- err
	}()
	return lines, broken
}

// next waits for a line, and gives it with those that are there already; none at the end, or when ctx ends.
func next(ctx context.Context, lines <-chan string) (list []string) {
	select {
	case <-ctx.Done():
		return nil
	case line, ok := <-lines:
		if !ok {
			return nil
		}
		list = append(list, line)
	}
	for len(list) < atOnce {
		select {
		case line, ok := <-lines:
			if !ok {
				return list
			}
			list = append(list, line)
		default:
			return list
		}
	}
	return list
}

// eachOf asks for one address after the other.
func eachOf[T any](one func(context.Context, string) (T, error)) answerer[T] {
	return func(ctx context.Context, list []string) (all []answered[T], err error) {
		for _, in := range list {
			if ctx.Err() != nil {
				break
			}
			of, err := one(ctx, in)
			all = append(all, answered[T]{of, err})
		}
		return all, nil
	}
}

// widths are those of columns, whatever comes later; the last column has none.
type widths []int

func (w widths) row(cells ...string) string {
	var b strings.Builder
	for i, cell := range cells {
		if i < len(w) {
			cell = text.Pad(cell, w[i], ' ') + "  "
		}
		b.WriteString(cell)
	}
	return strings.TrimRight(b.String(), " ")
}

// cardLayout is that of cards, with a link each where there is a template of links.
func cardLayout(link string) layout[card.Card] {
	w := widths{39, 8, 36, 24, 9}
	return layout[card.Card]{
		data: func(c card.Card) any { return linked(c, link) },
		head: w.row("Address", "Level", "Place", "Country", "Within", "Time zone"),
		line: func(c card.Card) string { return w.row(cellsOf(&c, link)...) },
	}
}

func cellsOf(c *card.Card, link string) []string {
	w := c.Location
	within := ""
	if w.RadiusKm != nil {
		within = plain.Decimal(*w.RadiusKm) + " km"
	}
	place := terminal.Place(w)
	if c.Address.Skipped && c.Address.Kind != nil {
		place = c.Address.Kind.String() + ", skipped"
	}
	return []string{
		c.Address.Text.String(), string(w.Level), place, terminal.Join(" ", plain.Value(w.Names.Country), plain.Value(w.CountryCode)), within,
		terminal.Join("  ", plain.Value(w.TimeZone), linkTo(link, *c)),
	}
}
