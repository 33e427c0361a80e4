package source

import (
	"io/fs"
	"strconv"
	"strings"
	"time"
)

// Loaded is when a running server last took its configuration in, where a reload
// starts new workers: the moment the oldest child of its main process began
// (proc(5)). pid is the file with the main process's number; zero when it cannot
// be told.
func Loaded(fsys fs.FS, pid string) (loaded time.Time) {
	text, err := fs.ReadFile(fsys, InFS(pid))
	if err != nil {
		return loaded
	}
	master := strings.TrimSpace(string(text))
	if _, err := strconv.Atoi(master); err != nil {
		return loaded
	}
	boot, ok := bootTime(fsys)
	children, err := fs.ReadFile(fsys, "proc/"+master+"/task/"+master+"/children")
	if err != nil || !ok {
		return loaded
	}
	for child := range strings.FieldsSeq(string(children)) {
		if at, ok := began(fsys, child, boot); ok && (loaded.IsZero() || at.Before(loaded)) {
			loaded = at
		}
	}
	return loaded
}

// bootTime is when the machine started, from which /proc counts the start of
// processes.
func bootTime(fsys fs.FS) (time.Time, bool) {
	stat, err := fs.ReadFile(fsys, "proc/stat")
	if err != nil {
		return time.Time{}, false
	}
	_, after, found := strings.Cut(string(stat), "btime ")
	line, _, _ := strings.Cut(after, "\n")
	seconds, err := strconv.ParseInt(strings.TrimSpace(line), 10, 64)
	return time.Unix(seconds, 0).UTC(), found && err == nil
}

// began reads field 22 of a process's stat: its start in ticks after boot, of
// which Linux has 100 a second.
func began(fsys fs.FS, pid string, boot time.Time) (time.Time, bool) {
	const startField, ticks = 22, 100
	stat, err := fs.ReadFile(fsys, "proc/"+pid+"/stat")
	if err != nil {
		return time.Time{}, false
	}
	text := string(stat)
	fields := strings.Fields(text[strings.LastIndexByte(text, ')')+1:]) // the name in front may hold blanks
	const behindName = 3
	if len(fields) <= startField-behindName {
		return time.Time{}, false
	}
	n, err := strconv.ParseInt(fields[startField-behindName], 10, 64)
	return boot.Add(time.Duration(n) * (time.Second / ticks)), err == nil
}
