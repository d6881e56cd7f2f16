package judge

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode/limit"
)

// ParseRate reads "12 per hour" or "5 per 10m": a count, and a unit (second, minute, hour, day) or a
// duration. The burst is 1; a rate of more has it set.
func ParseRate(s string) (limit.Rate, error) {
	times, unit, err := counted(s)
	if err != nil {
		return limit.Rate{}, err
	}
	per, known := map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour,
		"day": 24 * time.Hour}[unit]
	if !known {
		if per, err = time.ParseDuration(unit); err != nil || per <= 0 {
			return limit.Rate{},
				fmt.Errorf("%w: %q has an unknown unit; say second, minute, hour, day, or a duration such as 10m",
					limit.ErrRule, s)
		}
	}
	return limit.Rate{Times: times, Per: per, Burst: 1}, nil
}

// ParseQuota reads "20 per day", per hour or per month, of UTC's calendar.
func ParseQuota(s string) (limit.Quota, error) {
	times, unit, err := counted(s)
	if err != nil {
		return limit.Quota{}, err
	}
	q := limit.Quota{Times: times, Window: limit.Window(unit)}
	if q.Window != limit.Hour && q.Window != limit.Day && q.Window != limit.Month {
		return limit.Quota{}, fmt.Errorf("%w: %q has an unknown unit; a quota is per hour, day or month", limit.ErrRule,
			s)
	}
	return q, nil
}

// counted reads "N per UNIT".
func counted(s string) (n int, unit string, err error) {
	fields := strings.Fields(s)
	if len(fields) == 3 && fields[1] == "per" {
		if n, err = strconv.Atoi(fields[0]); err == nil && n >= 1 {
			return n, fields[2], nil
		}
	}
	return 0, "", fmt.Errorf("%w: %q; write it as \"12 per hour\", with a count of 1 or more", limit.ErrRule, s)
}
