// Package render turns a letter's name, a locale and data into a subject, a text and an HTML
// part. [Set] is the type to read first.
//
// A letter is made of parts: opening, main text, proof (a code, a button, or both), aside and
// closing, each of which may be missing without leaving a gap. The words of the parts stand in a
// [Catalog] for each locale; one layout for text and one for HTML, shared by all letters, sets
// them in order and adds who is writing.
//
// Words may hold values in double braces, in the syntax of text/template. A value never becomes
// markup: parts are executed as text, and the HTML layout (html/template) escapes the result. A
// value that the data lacks is an error that names letter, locale and value, never a hole.
package render
