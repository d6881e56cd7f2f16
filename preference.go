package illumicode

import (
	"context"
	"fmt"
	"slices"

	"github.com/illumicode/illumicode/internal/core/near"
	rows "github.com/illumicode/illumicode/internal/store"
)

// A Preference is what a person wants of a category of notices.
type Preference struct {
	Address  string
	Category string
	Wanted   bool
}

// Prefer records whether a person wants the notices of a category. Letters without a category,
// which are those of the flows, always reach them.
func (s *Service) Prefer(ctx context.Context, p Preference) error {
	to, err := s.p.Recipient(p.Address)
	if err != nil {
		return err
	}
	if !slices.Contains(s.p.Letters.Categories(), p.Category) {
		return fmt.Errorf("illumicode: no letter has the category %q; %s", p.Category,
			near.List(p.Category, s.p.Letters.Categories()))
	}
	return s.p.Store.Prefer(ctx, rows.Preference{Mailbox: to.Mailbox(), Category: p.Category, Wanted: p.Wanted,
		Since: s.p.Now()})
}

// Preferences returns what a person wants, for every category that there is.
func (s *Service) Preferences(ctx context.Context, address string) ([]Preference, error) {
	to, err := s.p.Recipient(address)
	if err != nil {
		return nil, err
	}
	said, err := s.p.Store.Preferences(ctx, to.Mailbox())
	if err != nil {
		return nil, err
	}
	var all []Preference
	for _, category := range s.p.Letters.Categories() {
		p := Preference{Address: address, Category: category, Wanted: true}
		for _, one := range said {
			if one.Category == category {
				p.Wanted = one.Wanted
			}
		}
		all = append(all, p)
	}
	return all, nil
}

// Unsubscription returns what the value of an unsubscribe link ([Site].UnsubscribePath) is about: the preference that
// its reader would record. The error matches [ErrInvalid].
func (s *Service) Unsubscription(sealed string) (Preference, error) {
	address, category, err := s.p.Unsubscription(sealed)
	if err != nil {
		return Preference{}, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	return Preference{Address: address, Category: category}, nil
}
