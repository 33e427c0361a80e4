package httpd

import (
	"path"

	"insegna.example/internal/kind"
)

// mains are main files by the name of the program.
var mains = map[string]string{"apache2": debianMain, "httpd": redHatMain}

// running implements kind.Kind.Running.
func running(words []string) *kind.Running {
	if len(words) == 0 || !kind.Program(words[0]) || mains[path.Base(words[0])] == "" {
		return nil
	}
	root, file := kind.Flag(words[1:], "-d"), kind.Flag(words[1:], "-f")
	out := &kind.Running{Main: mains[path.Base(words[0])]}
	if file == "" && root == "" {
		return out
	}
	command := []string{words[0]}
	if root != "" {
		command = append(command, "-d", root)
		out.Main = path.Join(root, "conf/httpd.conf")
		if path.Base(words[0]) == "apache2" {
			out.Main = path.Join(root, "apache2.conf")
		}
	}
	if file != "" {
		out.Main = kind.Below(root, file)
		if !path.IsAbs(out.Main) {
			return nil
		}
	}
	command = append(command, "-f", out.Main)
	out.Commands = map[string]string{testKey: kind.Shell(append(command, "-t")...), reloadKey: kind.Shell(append(command, "-k", "graceful")...)}
	return out
}
