package guest

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

func nproc(_ context.Context, c *call) int {
	n := c.guest.VCPUs
	if c.guest.spoilt("cores") {
		n = max(1, n/2)
	}
	return c.say("%d", n)
}

func free(_ context.Context, c *call) int {
	n := c.guest.MemoryBytes
	if c.guest.spoilt("memory") {
		n /= 2
	}
	return c.say("               total\nMem:  %14d", n)
}

// lsblk shows the disks that are attached: their sizes in bytes with -b, their file
// systems with -f.
func lsblk(_ context.Context, c *call) int {
	inBytes, withSystem := slices.Contains(c.args, "-b"), slices.Contains(c.args, "-f")
	header := "NAME SIZE MOUNTPOINT"
	if withSystem {
		header = "NAME FSTYPE SIZE MOUNTPOINT"
	}
	c.say("%s", header)
	for i, d := range c.guest.attached() {
		bytes := d.Bytes
		if c.guest.spoilt("disk") {
			bytes /= 2
		}
		size := fmt.Sprintf("%dG", bytes>>30)
		if inBytes {
			size = strconv.FormatInt(bytes, 10)
		}
		if withSystem {
			size = c.guest.system(d) + " " + size
		}
		c.say("vd%c %s %s", 'b'+i, size, d.Mount)
	}
	return 0
}

// system is the file system of a disk.
func (g *Guest) system(d Disk) string {
	switch {
	case g.spoilt("file-system"):
		return "raw"
	case d.Format == "":
		return "ext4"
	}
	return d.Format
}

// volumes shows the logical volume that each disk is: a name of its mount, and its size.
func volumes(_ context.Context, c *call) int {
	c.say("LV VG SIZE")
	for i, d := range c.guest.attached() {
		if c.guest.spoilt("volume") && i == 0 {
			continue
		}
		c.say("%s vg%d %dG", strings.ReplaceAll(strings.Trim(d.Mount, "/"), "/", "-"), i, d.Bytes>>30)
	}
	return 0
}
