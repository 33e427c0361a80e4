package nginx

import (
	"path"
	"strings"

	"insegna.example/internal/kind"
)

// masterTitle is what a master process calls itself, before the words it was started with.
const masterTitle = "nginx: master process "

// usualPrefix is what paths of a command line are below.
const usualPrefix = "/usr/share/nginx"

// running implements kind.Kind.Running. A master writes its words over with a title, in which
// they are parted by blanks.
func running(words []string) *kind.Running {
	if len(words) == 0 {
		return nil
	}
	title, is := strings.CutPrefix(words[0], masterTitle)
	if !is {
		return nil
	}
	list := strings.Fields(title)
	if len(list) == 0 || !kind.Program(list[0]) {
		return nil
	}
	prefix, file := kind.Flag(list[1:], "-p"), kind.Flag(list[1:], "-c")
	main := usualMain
	switch {
	case file != "" && prefix == "":
		main = kind.Below(usualPrefix, file)
	case file != "":
		main = kind.Below(prefix, file)
	case prefix != "":
		main = path.Join(prefix, "conf/nginx.conf")
	}
	out := &kind.Running{Main: main}
	if main == usualMain && prefix == "" {
		return out
	}
	command := []string{list[0]}
	if prefix != "" {
		command = append(command, "-p", prefix)
	}
	command = append(command, "-c", main)
	if log := kind.Flag(list[1:], "-e"); log != "" {
		command = append(command, "-e", log)
	}
	out.Commands = map[string]string{testKey: kind.Shell(append(command, "-t")...), reloadKey: kind.Shell(append(command, "-s", "reload")...)}
	return out
}
