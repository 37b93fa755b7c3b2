package job

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// node is a place of the document: a mapping, a list or a scalar, with its position.
type node struct {
	kind         nodeKind
	text         string // scalar: its value as text
	plain        bool   // scalar without quotes
	block        bool   // scalar written as a block (| or >)
	quoted       bool
	tag          bool // a scalar that began with !, taken as text
	line, column int
	keys         []*node        // mapping
	values       []*node        // mapping and list
	at           map[string]int // mapping: where a key stands in keys
	size         int            // values in it and itself, those that an alias repeats counted again
}

type nodeKind uint8

const (
	nullNode nodeKind = iota
	scalarNode
	mapNode
	listNode
)

func (k nodeKind) String() string {
	return [...]string{"nothing", "a value", "a mapping", "a list"}[k]
}

// get gives the value of a mapping's key, or nil.
func (n *node) get(key string) *node {
	if n == nil {
		return nil
	}
	if i, there := n.at[key]; there {
		return n.values[i]
	}
	return nil
}

// put adds an entry to a mapping that does not have its key.
func (n *node) put(key, value *node) {
	if n.at == nil {
		n.at = map[string]int{}
	}
	n.at[key.text] = len(n.keys)
	n.keys, n.values = append(n.keys, key), append(n.values, value)
	n.size += 1 + value.size
}

// readYAML parses text into nodes. The YAML library stops at its first syntax fault; where that is an
// unquoted expression the line is mended and parsed again, so that the other faults are found too.
func (r *reader) readYAML(text string) *node {
	if strings.HasPrefix(strings.TrimSpace(text), "{") {
		text = strings.ReplaceAll(text, "\t", " ") // JSON may be indented with tabs, YAML not
	}
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if fixed, ok := mendFlow(l); ok {
			r.faultAt(i+1, indentOf(l)+1, "", "an unquoted expression with a comma or [ stands in { }, where YAML cuts it apart", "put the expression in quotes: "+strings.TrimSpace(fixed))
			lines[i] = fixed
		} else if head, value, ok := splitEntry(l); ok && strings.HasPrefix(strings.TrimSpace(value), "!") {
			// Left alone, the tag would take the lines that follow for its value.
			fixed := head + " " + quote(strings.TrimSpace(value))
			r.faultAt(i+1, len(head)+2, "", "an unquoted expression begins with !, which YAML takes for a tag", "put it in quotes: "+strings.TrimSpace(fixed))
			lines[i] = fixed
		}
	}
	mended := map[int]bool{} // each line once: what quoting does not mend stays a fault
	seen := 0
	for {
		tokens, small := r.tokens(strings.Join(lines, "\n"))
		if !small || r.ctx.Err() != nil {
			return nil
		}
		seen += len(tokens)
		file, err := parser.Parse(tokens, 0)
		if err == nil {
			r.lines = lines
			if len(file.Docs) > 1 {
				r.faultAt(file.Docs[1].GetToken().Position.Line, 1, "", "the file holds more than one document", "give each job a file of its own")
			}
			if len(file.Docs) == 0 || file.Docs[0].Body == nil {
				return &node{kind: nullNode, line: 1, column: 1}
			}
			c := converter{r: r, anchors: map[string]*node{}}
			return c.node(file.Docs[0].Body, 0)
		}
		line, column, message := syntaxFault(err)
		again := mended[line] || len(mended) >= maxMends || seen > maxTokens
		mended[line] = true
		if again || !r.mend(lines, line) {
			remedy := "check quotes, brackets and indentation here"
			if line >= 1 && line <= len(lines) && strings.HasPrefix(lines[line-1], "\t") {
				remedy = "indent with spaces; YAML does not take tabs"
			}
			if line == 0 {
				line = 1
			}
			r.faultAt(line, max(1, column), "", "the YAML cannot be read: "+message, remedy)
			return nil
		}
	}
}

func syntaxFault(err error) (line, column int, message string) {
	var se yaml.Error
	if errors.As(err, &se) {
		message = se.GetMessage()
		if t := se.GetToken(); t != nil && t.Position != nil {
			return t.Position.Line, t.Position.Column, message
		}
	}
	return 0, 0, err.Error()
}

// bareReference is ${env.NAME} and the like without quotes, as a value of a mapping in one line.
var bareReference = regexp.MustCompile(`([:,\[{] *)([^\s'",{}\[\]]*\$\{[^}'"]*\}[^\s'",{}\[\]]*)`)

// mend quotes the value of the line where the parser stopped, if it looks like an expression that
// YAML bends; it notes the fault.
func (r *reader) mend(lines []string, line int) bool {
	if line < 1 || line > len(lines) {
		return false
	}
	l := lines[line-1]
	if bare := bareReference.FindStringIndex(l); bare != nil && strings.Contains(l[:bare[0]], "{") {
		fixed := bareReference.ReplaceAllString(l, `$1"$2"`)
		r.faultAt(line, bare[0]+2, "", "${…} stands without quotes within { }, where YAML reads its braces as its own", "put it in quotes: "+strings.TrimSpace(fixed))
		lines[line-1] = fixed
		return true
	}
	head, value, ok := splitEntry(l)
	if !ok {
		return false
	}
	value = strings.TrimSpace(value)
	why := ""
	switch {
	case strings.Contains(value, " ? ") && strings.Contains(value, ": "):
		why = "an unquoted expression with `? :` stands where YAML reads the colon as a new key"
	case strings.HasPrefix(value, "'") || strings.HasPrefix(value, "\""):
		why = "an expression begins with a quoted text, which YAML takes for the whole value"
	case strings.HasPrefix(value, "&") || strings.HasPrefix(value, "*") || strings.HasPrefix(value, "%") || strings.HasPrefix(value, "@") || strings.HasPrefix(value, "`"):
		why = "an unquoted expression begins with a sign that means something to YAML"
	case strings.Contains(value, ": "):
		why = "an unquoted text holds a colon and a space, which YAML reads as a new key"
	default:
		return false
	}
	fixed := head + " " + quote(value)
	if fixed == l || strings.Contains(value, "\n") {
		return false
	}
	r.faultAt(line, len(head)+2, "", why, "put it in quotes: "+strings.TrimSpace(fixed))
	lines[line-1] = fixed
	return true
}

// splitEntry splits "  name: value" after the colon.
func splitEntry(line string) (head, value string, ok bool) {
	i := strings.Index(line, ": ")
	if i < 0 || strings.ContainsAny(line[:i], "'\"{[#") {
		return "", "", false
	}
	return line[:i+1], line[i+2:], true
}

func indentOf(l string) int { return len(l) - len(strings.TrimLeft(l, " ")) }

func quote(s string) string {
	if !strings.Contains(s, "'") {
		return "'" + s + "'"
	}
	if !strings.ContainsAny(s, "\"\\") {
		return "\"" + s + "\""
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}

// mendFlow finds unquoted expressions in a one-line flow mapping that YAML would cut apart at a comma
// within parentheses or at a [ within the value, and quotes them.
func mendFlow(line string) (string, bool) {
	open := strings.Index(line, ": {")
	if open < 0 || strings.Contains(line[:open], "#") {
		return "", false
	}
	body := strings.TrimRight(line[open+3:], " \r")
	if c := strings.LastIndex(body, "}"); c < 0 || strings.TrimSpace(body[c+1:]) != "" && !strings.HasPrefix(strings.TrimSpace(body[c+1:]), "#") {
		return "", false
	} else if strings.Contains(body[:c], "{") {
		return "", false // nested: left to YAML
	} else {
		line, body = line[:open+3]+body, body[:c]
	}
	parts := splitFlow(body)
	changed := false
	for i, p := range parts {
		k, v, ok := strings.Cut(p, ":")
		v = strings.TrimSpace(v)
		if !ok || v == "" || strings.ContainsAny(v[:1], "'\"[{") {
			continue
		}
		if strings.ContainsAny(v, ",[]") || strings.HasPrefix(v, "!") {
			parts[i] = k + ": " + quote(v)
			changed = true
		}
	}
	if !changed {
		return "", false
	}
	return line[:open+3] + strings.Join(parts, ",") + line[open+3+len(body):], true
}

// splitFlow splits at commas that stand in no parentheses, brackets or quotes.
func splitFlow(s string) []string {
	var out []string
	depth, from := 0, 0
	var in byte
	for i := 0; i < len(s); i++ {
		switch b := s[i]; {
		case in != 0:
			if b == in {
				in = 0
			}
		case b == '\'' || b == '"':
			in = b
		case b == '(' || b == '[':
			depth++
		case b == ')' || b == ']':
			depth--
		case b == ',' && depth == 0:
			out = append(out, s[from:i])
			from = i + 1
		}
	}
	return append(out, s[from:])
}

// converter turns the library's tree into nodes; anchors and merge keys are filled in.
type converter struct {
	r        *reader
	anchors  map[string]*node
	repeated int // values that aliases stand for, so far
}

func (c *converter) node(n ast.Node, depth int) *node {
	if n == nil {
		return &node{kind: nullNode, line: 1, column: 1}
	}
	p := n.GetToken().Position
	out := &node{line: p.Line, column: p.Column, size: 1}
	if depth > maxDepth { // by anchors on anchors
		c.r.faultAt(p.Line, p.Column, "", fmt.Sprintf("the document is nested more than %d deep", maxDepth), "no part of a job needs that")
		return out
	}
	switch x := n.(type) {
	case *ast.NullNode:
	case *ast.MappingNode:
		out.kind = mapNode
		for i, v := range x.Values {
			if i == 0 && !x.IsFlowStyle {
				kp := v.Key.GetToken().Position
				out.line, out.column = kp.Line, kp.Column
			}
			c.entry(out, v, depth)
		}
	case *ast.MappingValueNode:
		out.kind = mapNode
		kp := x.Key.GetToken().Position
		out.line, out.column = kp.Line, kp.Column
		c.entry(out, x, depth)
	case *ast.SequenceNode:
		out.kind = listNode
		for _, v := range x.Values {
			e := c.node(v, depth+1)
			out.values = append(out.values, e)
			out.size += e.size
		}
	case *ast.AnchorNode:
		inner := c.node(x.Value, depth+1)
		c.anchors[x.Name.GetToken().Value] = inner
		return inner
	case *ast.AliasNode:
		name := x.Value.GetToken().Value
		if a := c.anchors[name]; a != nil {
			if c.repeated += a.size; c.repeated > maxNodes {
				c.r.faultAt(p.Line, p.Column, "", fmt.Sprintf("with what its aliases repeat, the document has more than %d values", maxNodes), "a job needs less; write out what is meant")
				return out
			}
			return a
		}
		c.r.faultAt(p.Line, p.Column, "", fmt.Sprintf("*%s refers to an anchor that is not there", name), "define it before, as &"+name)
	case *ast.TagNode:
		out.kind, out.tag, out.plain = scalarNode, true, true
		out.text = c.r.restOfLine(p.Line, p.Column)
	case *ast.LiteralNode:
		out.kind, out.block = scalarNode, true
		out.text = x.Value.Value
		out.line++
	case *ast.StringNode:
		out.kind = scalarNode
		out.text = x.Value
		out.quoted = x.Token.Type == token.DoubleQuoteType || x.Token.Type == token.SingleQuoteType
		out.plain = !out.quoted
	default:
		out.kind, out.plain = scalarNode, true
		out.text = n.GetToken().Value
	}
	if strings.ContainsRune(out.text, 0) {
		c.r.faultAt(p.Line, p.Column, "", "the text holds the character U+0000", "leave it out")
	}
	return out
}

func (c *converter) entry(out *node, v *ast.MappingValueNode, depth int) {
	if v.Key.IsMergeKey() {
		from := c.node(v.Value, depth+1)
		for i, k := range from.keys {
			if out.get(k.text) == nil {
				out.put(k, from.values[i])
			}
		}
		return
	}
	k := c.node(v.Key, depth+1)
	if out.get(k.text) != nil {
		c.r.faultAt(k.line, k.column, "", fmt.Sprintf("%s stands twice", k.text), "keep one of them")
		return
	}
	out.put(k, c.node(v.Value, depth+1))
}

// restOfLine gives the source from a position to the end of its line, or to what ends a flow value.
func (r *reader) restOfLine(line, column int) string {
	if line < 1 || line > len(r.lines) || column < 1 || column > len(r.lines[line-1]) {
		return ""
	}
	s := r.lines[line-1][column-1:]
	if i := strings.IndexAny(s, ",}"); i >= 0 && strings.Contains(r.lines[line-1][:column-1], "{") {
		s = s[:i]
	}
	return strings.TrimSpace(s)
}
