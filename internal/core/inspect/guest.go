package inspect

import (
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// guest is the tree of files as the system itself sees it.
type guest struct {
	mounts map[string]fs.FS
}

// The bounds of how far links and patterns are followed.
const (
	mostLinks   = 40
	mostMatches = 1000
)

// on finds the volume of a path without links.
func (g *guest) on(name string) (fs.FS, string) {
	at := "/"
	for mount := range g.mounts {
		if len(mount) > len(at) && (name == mount || strings.HasPrefix(name, mount+"/")) {
			at = mount
		}
	}
	rest := strings.Trim(strings.TrimPrefix(name, at), "/")
	if rest == "" {
		rest = "."
	}
	return g.mounts[at], rest
}

// resolve follows the links of a path; of the last name only if last is set.
func (g *guest) resolve(name string, last bool) (string, fs.FileInfo, error) {
	done, rest := "/", strings.Split(strings.Trim(name, "/"), "/")
	var about fs.FileInfo
	for links := 0; ; {
		on, below := g.on(done)
		var err error
		if about, err = fs.Lstat(on, below); err != nil {
			return done, nil, err
		}
		if about.Mode().Type() == fs.ModeSymlink && (last || len(rest) > 0) {
			if links++; links > mostLinks {
				return done, nil, fs.ErrInvalid
			}
			to, err := fs.ReadLink(on, below)
			if err != nil {
				return done, nil, err
			}
			if done = path.Dir(done); strings.HasPrefix(to, "/") {
				done = "/"
			}
			rest = append(strings.Split(to, "/"), rest...)
		}
		for len(rest) > 0 && (rest[0] == "" || rest[0] == ".") {
			rest = rest[1:]
		}
		if len(rest) == 0 {
			on, below := g.on(done)
			about, err := fs.Lstat(on, below)
			if err == nil && last && about.Mode().Type() == fs.ModeSymlink {
				continue
			}
			return done, about, err
		}
		done, rest = path.Join(done, rest[0]), rest[1:]
	}
}

// is reports whether there is a file that is not empty.
func (g *guest) is(name string) bool {
	_, about, err := g.resolve(name, true)
	return err == nil && about.Mode().IsRegular() && about.Size() > 0
}

// text is what a file says; empty if it cannot be read.
func (g *guest) text(name string) string {
	at, _, err := g.resolve(name, true)
	if err != nil {
		return ""
	}
	on, below := g.on(at)
	content, err := fs.ReadFile(on, below)
	if err != nil {
		return ""
	}
	return string(content)
}

// reader reads parts of a file; nil if it cannot be read.
func (g *guest) reader(name string) io.ReaderAt {
	at, about, err := g.resolve(name, true)
	if err != nil || !about.Mode().IsRegular() {
		return nil
	}
	on, below := g.on(at)
	f, err := on.Open(below)
	if err != nil {
		return nil
	}
	r, _ := f.(io.ReaderAt) // nothing holds on to the file but what it reads from
	return r
}

// list names what is in a folder.
func (g *guest) list(name string) []fs.DirEntry {
	at, about, err := g.resolve(name, true)
	if err != nil || !about.IsDir() {
		return nil
	}
	on, below := g.on(at)
	all, _ := fs.ReadDir(on, below)
	return all
}

// glob lists the paths that match a pattern: * is any name without a slash, ** any folder
// below. Those of folders end with a slash.
func (g *guest) glob(pattern string) []string {
	found := []string{"/"}
	for _, part := range strings.Split(strings.Trim(pattern, "/"), "/") {
		var next []string
		for _, folder := range found {
			if !strings.HasSuffix(folder, "/") {
				continue
			}
			if !strings.ContainsAny(part, "*?[") {
				if _, about, err := g.resolve(folder+part, true); err == nil {
					next = append(next, folder+part+slash(about.IsDir()))
				}
				continue
			}
			if part == "**" {
				next = append(next, folder)
			}
			for _, e := range g.list(folder) {
				matched, _ := path.Match(strings.ToLower(part), strings.ToLower(e.Name()))
				switch {
				case len(next) >= mostMatches:
				case part == "**" && e.IsDir() && strings.Count(folder, "/") < 12:
					next = append(next, g.glob(folder+e.Name()+"/**")...)
				case part != "**" && matched:
					next = append(next, folder+e.Name()+slash(e.IsDir()))
				}
			}
		}
		found = next
	}
	return found
}

func slash(is bool) string {
	if is {
		return "/"
	}
	return ""
}

// first is the first of some paths that is there.
func (g *guest) first(names ...string) string {
	i := slices.IndexFunc(names, g.is)
	if i < 0 {
		return ""
	}
	return names[i]
}

// lines are those that say something.
func lines(text string) []string {
	var all []string
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			all = append(all, line)
		}
	}
	return all
}
