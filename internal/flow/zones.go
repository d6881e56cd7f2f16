package flow

import (
	"errors"
	"fmt"
	"regexp"
	"sync"
	"time"
)

// Zones keeps the time zones that readers have, for loading one reads a file. The zero value is
// ready; it is safe for concurrent use.
type Zones struct {
	mu     sync.Mutex // guards loaded
	loaded map[string]*time.Location
}

// ErrZone matches a name that is no time zone's.
var ErrZone = errors.New("illumicode: no time zone")

// zoneName is how zones are named: one name each, so that nobody makes the table grow by spelling one anew.
var zoneName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_+-]*(/[A-Za-z0-9][A-Za-z0-9_+-]*){0,3}$`)

// longestZone bounds a name in bytes.
const longestZone = 64

// Load returns the zone with this IANA name; "" is UTC. The error matches [ErrZone].
func (z *Zones) Load(name string) (*time.Location, error) {
	if name == "" {
		return time.UTC, nil
	}
	if len(name) > longestZone || !zoneName.MatchString(name) || name == "Local" {
		return nil, fmt.Errorf("%w: it is no name of the IANA database, such as Europe/Oslo", ErrZone)
	}
	z.mu.Lock()
	defer z.mu.Unlock()
	if l := z.loaded[name]; l != nil {
		return l, nil
	}
	l, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf(
			"%w: %q is not in the IANA database, as Europe/Oslo is, or the machine has no such database "+
				"and the program no import of time/tzdata", ErrZone, name)
	}
	if z.loaded == nil {
		z.loaded = make(map[string]*time.Location)
	}
	z.loaded[name] = l
	return l, nil
}
