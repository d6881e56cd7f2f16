package illumicode

import (
	"context"
	"fmt"
	"net/url"
	"slices"

	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// A Preference is what a person wants of a category of notices.
type Preference struct {
	Category string
	Wanted   bool
}

// Prefer records whether a person wants the notices of a category. Letters without a category,
// which are those of the flows, always reach them.
func (s *Service) Prefer(ctx context.Context, address, category string, wanted bool) error {
	to, err := s.recipient(address)
	if err != nil {
		return err
	}
	if !slices.Contains(s.letters.Categories(), category) {
		return fmt.Errorf("illumicode: no letter has the category %q; there are %q", category, s.letters.Categories())
	}
	return s.store.Prefer(ctx, store.Preference{Mailbox: to.Mailbox(), Category: category, Wanted: wanted, Since: s.now()})
}

// Preferences returns what a person wants, for every category that there is.
func (s *Service) Preferences(ctx context.Context, address string) ([]Preference, error) {
	to, err := s.recipient(address)
	if err != nil {
		return nil, err
	}
	said, err := s.store.Preferences(ctx, to.Mailbox())
	if err != nil {
		return nil, err
	}
	var all []Preference
	for _, category := range s.letters.Categories() {
		p := Preference{Category: category, Wanted: true}
		for _, one := range said {
			if one.Category == category {
				p.Wanted = one.Wanted
			}
		}
		all = append(all, p)
	}
	return all, nil
}

// unsubscribePurpose is what the sealed value of an unsubscribe link is for.
const unsubscribePurpose = "unsubscribe"

// unsubscribe returns how the reader of a notice ends its category, for the header.
func (s *Service) unsubscribe(address, category string) *message.Unsubscribe {
	return &message.Unsubscribe{URL: s.site.BaseURL + s.site.UnsubscribePath + "?" +
		url.Values{"u": {s.keys.Active().Seal(unsubscribePurpose, address, category)}}.Encode()}
}

// Unsubscription returns whose notices of which category a link of [Site].UnsubscribePath is
// about. The error matches [ErrInvalid].
func (s *Service) Unsubscription(sealed string) (address, category string, err error) {
	values, err := s.keys.Unseal(unsubscribePurpose, sealed, s.now())
	if err != nil || len(values) != 2 {
		return "", "", ErrInvalid
	}
	return values[0], values[1], nil
}

// unwanted reports whether a reader has said no to letters like this one.
func (s *Service) unwanted(ctx context.Context, d store.Delivery, to message.Address) (category string, yes bool, err error) {
	kind := s.letters.Kind(d.Letter)
	if kind.Security() {
		return "", false, nil
	}
	yes, err = s.store.Unwanted(ctx, to.Mailbox(), kind.Category)
	return kind.Category, yes, err
}
