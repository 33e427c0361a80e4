package kind

import (
	"path"
	"strings"

	"insegna.example/internal/reach"
)

// Flag gives the value behind a flag of a command line, joined to it or the next word; ""
// where it is not there.
func Flag(words []string, name string) string {
	for i, w := range words {
		switch {
		case w == name && i+1 < len(words):
			return words[i+1]
		case strings.HasPrefix(w, name) && len(w) > len(name):
			return strings.TrimPrefix(w[len(name):], "=")
		}
	}
	return ""
}

// Program says whether a word can be run from anywhere: a whole path, or a name that is looked
// up, but no path below the folder the process happened to begin in.
func Program(word string) bool {
	return path.IsAbs(word) || word != "" && !strings.Contains(word, "/")
}

// Below makes a path absolute that is given below a folder.
func Below(folder, p string) string {
	if path.IsAbs(p) {
		return path.Clean(p)
	}
	return path.Join(folder, p)
}

// Shell writes words as a shell takes them.
func Shell(words ...string) string {
	out := make([]string, len(words))
	for i, w := range words {
		if out[i] = w; w == "" || strings.ContainsAny(w, " \t\n\"'\\$`;&|<>()*?[]{}#~!") {
			out[i] = reach.Quoted(w)
		}
	}
	return strings.Join(out, " ")
}
