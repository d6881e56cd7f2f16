package flow

import (
	"fmt"
	"sync"
	"time"
)

// Zones keeps the time zones that readers have, for loading one reads a file. The zero value is
// ready; it is safe for concurrent use.
type Zones struct {
	mu     sync.Mutex // guards loaded
	loaded map[string]*time.Location
}

// Load returns the zone with this IANA name; "" is UTC.
func (z *Zones) Load(name string) (*time.Location, error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	if l := z.loaded[name]; l != nil {
		return l, nil
	}
	l, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, fmt.Errorf(
			"illumicode: %q is no time zone of the IANA database, such as Europe/Oslo, or the machine has no such "+
				"database and the program no import of time/tzdata", name)
	}
	if z.loaded == nil {
		z.loaded = make(map[string]*time.Location)
	}
	z.loaded[name] = l
	return l, nil
}
