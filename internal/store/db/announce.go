package db

import "context"

// Announce tells workers in other processes that something may be due. It is a statement of its
// own: inside a transaction it would make all commits wait for each other.
func (s *Database) Announce(ctx context.Context) error {
	if s.dialect.Announce == "" {
		return nil
	}
	_, err := s.db.ExecContext(ctx, s.dialect.Announce)
	return s.Explain(err)
}

// Announces reports whether Announce does anything.
func (s *Database) Announces() bool { return s.dialect.Announce != "" }

// Listen calls wake for every announcement until ctx ends or the connection does, whose error it
// returns; it returns nil at once where nothing is announced.
func (s *Database) Listen(ctx context.Context, wake func()) error {
	if s.dialect.Listen == nil {
		return nil
	}
	return s.Explain(s.dialect.Listen(ctx, wake))
}
