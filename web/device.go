package web

import "strings"

// device returns what a User-Agent field (RFC 9110 §10.1.5) says of itself, in words for a list: "Firefox on Linux". It
// is what the browser claims; empty for nothing that is known.
func device(userAgent string) string {
	first := func(known [][2]string) string {
		for _, one := range known {
			if strings.Contains(userAgent, one[0]) {
				return one[1]
			}
		}
		return ""
	}
	// Browsers claim to be others too; the most particular claim comes first.
	browser := first([][2]string{{"Edg", "Edge"}, {"OPR/", "Opera"}, {"Firefox/", "Firefox"}, {"FxiOS/", "Firefox"},
		{"CriOS/", "Chrome"}, {"Chrome/", "Chrome"}, {"Safari/", "Safari"}})
	system := first([][2]string{{"Android", "Android"}, {"iPhone", "iPhone"}, {"iPad", "iPad"}, {"Windows", "Windows"},
		{"Mac OS X", "macOS"}, {"CrOS", "ChromeOS"}, {"Linux", "Linux"}})
	if browser == "" || system == "" {
		return browser + system
	}
	return browser + " on " + system
}
