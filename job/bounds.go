package job

import (
	"fmt"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

// What a document may have. Each is some ten times what the largest jobs that we know need, and keeps the reading of any
// text below a second (docs/job-document.md, "How large a document may be").
const (
	maxDepth       = 64       // collections within one another
	maxNodes       = 50_000   // mappings, lists and values, those that an alias repeats counted again
	maxEntries     = 2_000    // keys of one mapping
	maxExpressions = 64 << 10 // bytes of all expressions; expr.MaxText bounds each
	maxFaults      = 100      // that are said
	maxMends       = 20       // lines that are mended to find faults behind them
	maxTokens      = 500_000
)

// tooLarge says what is too large about a text before it is parsed, since parsing is where it would cost; nil for nothing.
// It walks the text's tokens once, with a stack of the collections that are open at each: those in brackets, and those
// that are told by their column.
//
//	steps:        open: mapping at 1
//	  a:          open: mapping at 1, mapping at 3
//	    from: x   open: mapping at 1, mapping at 3, mapping at 5
//	  b: [1, 2]   open: mapping at 1, mapping at 3, brackets
func tooLarge(tokens token.Tokens) *Fault {
	var open []collection
	nodes := 0
	refuse := func(t *token.Token, message, remedy string) *Fault {
		return &Fault{Line: t.Position.Line, Column: t.Position.Column, Message: message, Remedy: remedy}
	}
	var last *token.Token
	for _, t := range tokens {
		switch t.Type {
		case token.CommentType, token.CollectEntryType, token.DocumentEndType:
			continue
		case token.DocumentHeaderType:
			open = open[:0]
			continue
		case token.MappingStartType, token.SequenceStartType:
			open = append(open, collection{brackets: true})
			nodes++
		case token.MappingEndType, token.SequenceEndType:
			open = closeBrackets(open)
		case token.SequenceEntryType:
			open = atColumn(open, t.Position.Column, true)
			nodes++
		case token.MappingValueType:
			if last != nil {
				open = atColumn(open, last.Position.Column, false)
			}
			if n := len(open); n > 0 {
				open[n-1].entries++
				if open[n-1].entries > maxEntries {
					return refuse(t, fmt.Sprintf("a mapping has more than %d entries", maxEntries), "a job needs less; make several jobs of it")
				}
			}
		default:
			nodes++
		}
		last = t
		switch {
		case len(open) > maxDepth:
			return refuse(t, fmt.Sprintf("the document is nested more than %d deep", maxDepth), "no part of a job needs that")
		case nodes > maxNodes:
			return refuse(t, fmt.Sprintf("the document has more than %d values", maxNodes), "a job needs less; make several jobs of it")
		}
	}
	return nil
}

// collection is a mapping or list that is open at a token.
type collection struct {
	brackets bool
	list     bool
	column   int // without brackets
	entries  int
}

// closeBrackets ends the innermost collection in brackets, and what is open in it.
func closeBrackets(open []collection) []collection {
	for n := len(open) - 1; n >= 0; n-- {
		if open[n].brackets {
			return open[:n]
		}
	}
	return open
}

// atColumn gives what is open at a key or a dash in a column. Within brackets columns tell nothing.
func atColumn(open []collection, column int, list bool) []collection {
	for n := len(open); n > 0 && !open[n-1].brackets; n-- {
		c := open[n-1]
		if c.column == column && c.list == list || c.column < column || c.column == column && list {
			break // a list may stand in the column of the key that it belongs to
		}
		open = open[:n-1]
	}
	if n := len(open); n > 0 && (open[n-1].brackets || open[n-1].column == column && open[n-1].list == list) {
		return open
	}
	return append(open, collection{list: list, column: column})
}

// tokens cuts a text up; nil, with a fault, where it is too large.
func (r *reader) tokens(text string) (token.Tokens, bool) {
	out := lexer.Tokenize(text)
	if f := tooLarge(out); f != nil {
		r.faultAt(f.Line, f.Column, "", f.Message, f.Remedy)
		return nil, false
	}
	return out, true
}
