// Package web serves the flows over HTTP: default pages that work without script ([Pages]) and a
// JSON interface for other programs ([API]). Both are plain http.Handlers over an
// [illumicode.Service] and keep no state of their own.
//
// The page behind a link acts on POST only, so that a mail scanner that follows every link
// confirms nothing. The token leaves the address bar before the page shows: the first GET moves
// it into a short-lived cookie and redirects. Requests of other origins that would change
// something are refused.
package web
