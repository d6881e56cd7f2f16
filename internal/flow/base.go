package flow

import (
	"errors"
	"net"
	"net/url"
	"strings"
)

// CheckBaseURL returns the base URL of a site without a slash at its end, or what is wrong with
// it. A worker has no request to take the host from, so every link is made from this.
func CheckBaseURL(raw string) (string, error) {
	u, err := url.Parse(raw)
	switch {
	case raw == "":
		return "", errors.New("is missing; say where the site is, such as https://ferry.example")
	case err != nil || !u.IsAbs() || u.Host == "":
		return "", errors.New("is not absolute; write it with scheme and host, such as https://ferry.example")
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return "", errors.New("has a user, a query or a fragment; give scheme, host and path only")
	case u.Scheme == "http" && !loopback(u.Hostname()):
		return "", errors.New("is http: links would cross the network in the clear; use https")
	case u.Scheme != "http" && u.Scheme != "https":
		return "", errors.New("is neither https nor http")
	}
	return strings.TrimSuffix(u.String(), "/"), nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
}
