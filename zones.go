package illumicode

import (
	"fmt"
	"sync"
	"time"
)

// zones keeps the time zones that readers have, for loading one reads a file. The zero value is
// ready; it is safe for concurrent use.
type zones struct {
	mu     sync.Mutex // guards loaded
	loaded map[string]*time.Location
}

// load returns the zone with this IANA name; "" is UTC.
func (z *zones) load(name string) (*time.Location, error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	if l := z.loaded[name]; l != nil {
		return l, nil
	}
	l, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, fmt.Errorf("illumicode: %q is no time zone of the IANA database, such as Europe/Oslo, or the machine has no such database and the program no import of time/tzdata", name)
	}
	if z.loaded == nil {
		z.loaded = make(map[string]*time.Location)
	}
	z.loaded[name] = l
	return l, nil
}
