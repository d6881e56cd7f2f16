package flow

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/render"
)

// A Look is what letters show of who is writing.
type Look struct {
	Name, HomePage, Imprint string
	Mark                    string // a URL; empty for none
	MarkImage               []byte // to travel with each letter; nil for none
	Colours                 render.Colours
}

// Writer returns who is writing, and the mark that travels with letters, nil if none does; or what is wrong with them.
func (l Look) Writer() (render.Writer, *compose.Part, error) {
	w := render.Writer{Name: l.Name, HomePage: l.HomePage, Imprint: l.Imprint, Mark: l.Mark, Colours: l.Colours}
	var mark *compose.Part
	if l.MarkImage != nil {
		kind := http.DetectContentType(l.MarkImage)
		ext, ok := map[string]string{"image/png": "png", "image/jpeg": "jpg", "image/gif": "gif"}[kind]
		switch {
		case l.Mark != "":
			return w, nil, errors.New("has both Mark and MarkImage; choose one")
		case !ok:
			return w, nil, fmt.Errorf("MarkImage is no PNG, JPEG or GIF picture, but %s", kind)
		case len(l.MarkImage) > 100<<10:
			return w, nil, fmt.Errorf("MarkImage has %d bytes and travels with every letter; keep it under 100 KiB",
				len(l.MarkImage))
		}
		p := compose.BytesPart("mark."+ext, kind, l.MarkImage)
		p.ID = "mark"
		mark, w.Mark = &p, "cid:mark"
	}
	w, err := w.Check()
	return w, mark, err
}
