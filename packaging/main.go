// Packaging builds the packages of mintbatch: deb and rpm for Linux and archives for all
// systems, with checksums and a list of what is in the program. The same source gives the same
// bytes.
//
//	go run . [-version VERSION] [-out FOLDER] [-only SYSTEM/ARCH]
package main

import (
	"debug/buildinfo"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// target is a system that the program is built for.
type target struct{ system, arch string }

var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "arm64"}, {"windows", "amd64"}}

// build is what all packages have in common.
type build struct {
	version string
	source  string // the folder of the program's source
	work    string // for what is built on the way
	out     string
	at      time.Time // of the last change, which all files get
}

func main() {
	log.SetFlags(0)
	log.SetPrefix("packaging: ")
	b := build{}
	flag.StringVar(&b.version, "version", "0.1.0", "the version of the packages")
	flag.StringVar(&b.source, "source", "..", "the folder of the program's source")
	flag.StringVar(&b.out, "out", "../dist", "the folder to create the packages in")
	only := flag.String("only", "", "the one `SYSTEM/ARCH` to build for")
	flag.Parse()
	targets = slices.DeleteFunc(targets, func(t target) bool { return *only != "" && *only != t.system+"/"+t.arch })
	if err := b.all(); err != nil {
		log.Fatal(err)
	}
}

// all builds every package.
func (b *build) all() (err error) {
	if b.at, err = b.changed(); err != nil {
		return err
	}
	if b.work, err = os.MkdirTemp("", "mintbatch-packaging"); err != nil {
		return err
	}
	defer os.RemoveAll(b.work)
	if err := os.MkdirAll(b.out, 0o755); err != nil {
		return err
	}
	native := filepath.Join(b.work, "mintbatch")
	if err := b.compile(target{}, native); err != nil {
		return err
	}
	texts, err := b.texts(native)
	if err != nil {
		return err
	}
	var made []string
	for _, t := range targets {
		program := filepath.Join(b.work, t.system+"-"+t.arch, t.program())
		if err := b.compile(t, program); err != nil {
			return err
		}
		files := append([]file{{path: t.program(), from: program, mode: 0o755}}, texts...)
		archive, err := b.archive(t, files)
		if err != nil {
			return err
		}
		made = append(made, archive)
		if t.system == "linux" {
			packages, err := b.packages(t, program, texts)
			if err != nil {
				return err
			}
			made = append(made, packages...)
		}
		info, err := buildinfo.ReadFile(program)
		if err != nil {
			return err
		}
		bom, err := b.billOfMaterials(t, info)
		if err != nil {
			return err
		}
		made = append(made, bom)
	}
	return b.checksums(made)
}

func (t target) program() string {
	if t.system == "windows" {
		return "mintbatch.exe"
	}
	return "mintbatch"
}

// changed is the time of the last commit, or $SOURCE_DATE_EPOCH.
func (b *build) changed() (time.Time, error) {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	if text == "" {
		out, err := exec.Command("git", "-C", b.source, "log", "-1", "--format=%ct").Output()
		if err != nil {
			return time.Time{}, fmt.Errorf("set SOURCE_DATE_EPOCH where there is no git: %w", err)
		}
		text = string(out)
	}
	seconds, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	return time.Unix(seconds, 0).UTC(), err
}

// compile builds the program for a system; the zero target is this one.
func (b *build) compile(t target, to string) error {
	path, err := filepath.Abs(to)
	if err != nil {
		return err
	}
	c := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w -buildid= -X mintbatch/internal/cli.Version="+b.version, "-o", path, "./cmd/mintbatch")
	c.Dir, c.Stderr = b.source, os.Stderr
	c.Env = append(os.Environ(), "CGO_ENABLED=0")
	if t != (target{}) {
		c.Env = append(c.Env, "GOOS="+t.system, "GOARCH="+t.arch)
	}
	if err := c.Run(); err != nil {
		return fmt.Errorf("build for %s/%s: %w", t.system, t.arch, err)
	}
	return nil
}
