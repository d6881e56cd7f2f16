// Text from HTML and HTML from text, for letters that have only one of the two.

package render

import (
	"strings"

	"golang.org/x/net/html"
)

// textFrom returns what a reader of the HTML would read, as plain text: blocks apart, list items
// with dashes, and links with their addresses behind them.
func textFrom(source string) string {
	doc, err := html.Parse(strings.NewReader(source))
	if err != nil {
		return "" // html.Parse fails only if its reader does
	}
	var b strings.Builder
	plain(doc, &b)
	return b.String()
}

func plain(n *html.Node, b *strings.Builder) {
	switch {
	case n.Type == html.TextNode:
		words := strings.Join(strings.Fields(n.Data), " ")
		if words == "" {
			if n.Data != "" && b.Len() > 0 && !strings.HasSuffix(b.String(), "\n") &&
				!strings.HasSuffix(b.String(), " ") {
				b.WriteByte(' ')
			}
			return
		}
		if strings.TrimLeft(n.Data[:1], " \n\t\r") == "" && b.Len() > 0 && !strings.HasSuffix(b.String(), "\n") &&
			!strings.HasSuffix(b.String(), " ") {
			b.WriteByte(' ')
		}
		b.WriteString(words)
		if strings.TrimRight(n.Data[len(n.Data)-1:], " \n\t\r") == "" {
			b.WriteByte(' ')
		}
		return
	case n.Type != html.ElementNode && n.Type != html.DocumentNode:
		return
	case n.Data == "head" || n.Data == "style" || n.Data == "script" || n.Data == "title":
		return
	case n.Data == "br":
		b.WriteByte('\n')
		return
	case n.Data == "img":
		b.WriteString(attribute(n, "alt"))
		return
	case n.Data == "hr":
		b.WriteString("\n\n--\n\n")
		return
	}
	before, after := spacing(n.Data)
	b.WriteString(before)
	start := b.Len()
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		plain(c, b)
	}
	if href := attribute(n, "href"); n.Data == "a" && href != "" {
		if shown := strings.TrimSpace(b.String()[start:]); shown != href && !strings.HasPrefix(href, "#") {
			b.WriteString(": " + href + " ")
		}
	}
	b.WriteString(after)
}

// spacing returns what an element is set apart with.
func spacing(tag string) (before, after string) {
	switch tag {
	case "p", "h1", "h2", "h3", "h4", "ul", "ol", "table", "blockquote", "pre", "section":
		return "\n\n", "\n\n"
	case "div":
		return "\n", "\n"
	case "tr":
		return "", "\n"
	case "li":
		return "\n- ", "\n"
	case "td", "th":
		return "", "  "
	}
	return "", ""
}

func attribute(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

// htmlFrom returns text as HTML: its paragraphs and line ends, everything escaped.
func htmlFrom(text string) string {
	var b strings.Builder
	for _, p := range paragraphs(text) {
		b.WriteString(`<p style="margin:0 0 14px">` + strings.ReplaceAll(html.EscapeString(p), "\n", "<br>\n") +
			"</p>\n")
	}
	return b.String()
}
