package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/output"
)

func (a *App) diskCommand() *cli.Command {
	return &cli.Command{
		Name:  "disk",
		Usage: "look at disk images in files, check and convert them",
		Description: "Formats: " + strings.Join(formats.Names(), ", ") + ". No setup is needed.\n\n" +
			"   mintbatch disk show spring.vhdx",
		Commands: []*cli.Command{a.diskShowCommand(), a.diskCheckCommand(), a.diskConvertCommand()},
	}
}

// sourceFormat says what an image is whose content could be taken for something else.
func sourceFormat() cli.Flag {
	return &cli.StringFlag{Name: "source-format", Usage: "read the image as this `FORMAT` (default: by its content)"}
}

func (a *App) diskShowCommand() *cli.Command {
	return &cli.Command{
		Name:        "show",
		Usage:       "tell the format of an image, its sizes, and the images that it depends on",
		ArgsUsage:   "FILE",
		Description: "   mintbatch disk show spring.vhdx",
		Flags:       []cli.Flag{sourceFormat()},
		Action:      a.diskShow,
	}
}

func (a *App) diskCheckCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "look for damage in the tables of an image and of those that it depends on",
		ArgsUsage: "FILE",
		Description: "Checksums, places that are used twice or lie behind the end, reference counts, and that each parent is the one that its\n" +
			"child was made of. The content of the disk is not looked at. Exit status 1 if there is damage.\n\n" +
			"   mintbatch disk check spring.vhdx",
		Flags:  []cli.Flag{sourceFormat()},
		Action: a.diskCheck,
	}
}

func (a *App) diskConvertCommand() *cli.Command {
	return &cli.Command{
		Name:      "convert",
		Usage:     "write a disk image in another format",
		ArgsUsage: "SOURCE TARGET",
		Description: "The format is told by the name of TARGET (.qcow2 .vhdx .vhd .vmdk .raw .img) or by --format. What is zeros takes no room. The new\n" +
			"image depends on no other, unless --parent is given. TARGET is there once it is whole.\n\n" +
			"   mintbatch disk convert spring.vmdk spring.qcow2\n   mintbatch disk convert spring.qcow2 spring.vmdk --variant stream",
		Flags: []cli.Flag{&cli.StringFlag{Name: "format", Usage: "the `FORMAT` of the new image: " + strings.Join(formats.Names(), ", ")},
			&cli.StringFlag{Name: "variant", Usage: "dynamic, fixed; packed or zstd (compressed), v2 (of qcow2); stream (compressed, of vmdk)"},
			&cli.StringFlag{Name: "parent", Usage: "write only what differs from `IMAGE`, as a child of it"}, sourceFormat(), forceFlag(overFiles)},
		Action: a.diskConvert,
	}
}

// oneImage is the file that is named, and the format that it is said to have.
func oneImage(c *cli.Command) (path, format string, err error) {
	if c.NArg() != 1 {
		return "", "", misuse{fmt.Errorf("name one disk image: %s FILE", c.FullName())}
	}
	format, err = formatFlag(c, "source-format")
	return c.Args().First(), format, err
}

func formatFlag(c *cli.Command, name string) (string, error) {
	format := c.String(name)
	if _, known := formats.Of(format); format != "" && !known {
		return "", misuse{fmt.Errorf("--%s: unknown format %q (%s)", name, format, finding.DidYouMean(format, formats.Names()))}
	}
	return format, nil
}

func (a *App) diskShow(_ context.Context, c *cli.Command) error {
	path, format, err := oneImage(c)
	if err != nil {
		return err
	}
	all, missing, err := diskfile.Show(path, format)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.document(diskJSON{"mintbatch/disk/1", all}), missing)
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	for n, one := range all {
		line := a.labelled(p)
		if n > 0 {
			fmt.Fprintln(a.Stdout)
			line("parent", p.paint(visible(one.File), text.FgHiCyan))
		} else {
			line("image", p.paint(visible(one.File), text.FgHiCyan))
		}
		line("format", strings.Join(nonEmpty(one.Format+" "+one.Version, one.Variant), ", "))
		line("disk", one.Disk.String())
		line("stored", rough(one.Stored)+", in blocks of "+one.Block.String())
		line("identity", visible(one.Identity))
		for _, r := range one.Remarks {
			line("remark", visible(r))
		}
	}
	return missing
}

func (a *App) diskCheck(_ context.Context, c *cli.Command) error {
	path, format, err := oneImage(c)
	if err != nil {
		return err
	}
	d, err := diskfile.Open(path, format)
	if err != nil {
		return err
	}
	defer d.Close()
	found, err := d.Check()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.document(diskCheckJSON{"mintbatch/disk-check/1", d.Paths, append([]diskfile.Damage{}, found...)})
	} else {
		for _, one := range found {
			what := "damage"
			if one.Waste {
				what = "waste"
			}
			fmt.Fprintf(a.Stdout, "%s: %s: %s\n", visible(one.Path), what, visible(one.What))
		}
		if len(found) == 0 {
			fmt.Fprintf(a.Stdout, "no damage in %s\n", finding.Plural(len(d.Paths), "image"))
		}
	}
	if err == nil && slices.ContainsFunc(found, func(d diskfile.Damage) bool { return !d.Waste }) {
		err = &reported{exitIncomplete}
	}
	return err
}

func (a *App) diskConvert(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return misuse{errors.New("name an image and a file for the new one: mintbatch disk convert SOURCE TARGET")}
	}
	format, err := formatFlag(c, "format")
	if err != nil {
		return err
	}
	from, err := formatFlag(c, "source-format")
	if err != nil {
		return err
	}
	source, target := c.Args().First(), c.Args().Get(1)
	v, err := diskfile.PrepareConversion(diskfile.Conversion{Source: source, SourceFormat: from, Format: format, Variant: image.Variant(c.String("variant")), Parent: c.String("parent")}, target)
	if err != nil {
		return err
	}
	defer v.Close()
	ctx, release := context.WithCancel(ctx)
	defer release()
	defer context.AfterFunc(a.stop, release)()
	done, end := a.part(c, v.Length())
	guard := output.Guard{Files: v.Sources()}
	err = guard.Fill(target, over(c), 0o644, func(dir string) error { return v.To(ctx, dir, done) })
	end()
	if a.stop.Err() != nil && err != nil {
		return fmt.Errorf("interrupted; %s was not written", target)
	}
	if err != nil {
		return err
	}
	all, _, err := diskfile.Show(target, format)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(diskJSON{"mintbatch/disk/1", all})
	}
	fmt.Fprintf(a.Stderr, "wrote %s: %s %s, %s of a disk of %s\n", visible(target), all[0].Format, all[0].Variant, rough(all[0].Stored), rough(all[0].Disk))
	return nil
}

// part shows on a terminal how much of something is done, until end is called.
func (a *App) part(c *cli.Command, of int64) (done func(at int64), end func()) {
	if _, is := terminal(a.Stderr); !is || a.plain || c.Bool("quiet") {
		return nil, func() {}
	}
	var shown time.Time
	drawn := false
	return func(at int64) {
			if time.Since(shown) < 100*time.Millisecond {
				return
			}
			shown, drawn = time.Now(), true
			fmt.Fprintf(a.Stderr, "\r%s of %s (%d%%)\x1b[K", rough(machine.Size(at)), machine.Size(of), 100*at/max(of, 1))
		}, func() {
			if drawn {
				fmt.Fprint(a.Stderr, "\r\x1b[K")
			}
		}
}
