package main

import (
	"cmp"
	"fmt"
	"runtime/debug"
)

// version says what this program was built from: the version of the module, the revision of its source where the build
// knows one, and the version of Go.
func version(info *debug.BuildInfo) string {
	set := make(map[string]string)
	for _, s := range info.Settings {
		set[s.Key] = s.Value
	}
	revision := cmp.Or(set["vcs.revision"], "revision not known")
	if set["vcs.modified"] == "true" {
		revision += ", changed since"
	}
	return fmt.Sprintf("illumicode %s (%s), %s", cmp.Or(info.Main.Version, "(devel)"), revision, info.GoVersion)
}
