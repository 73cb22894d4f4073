package fit

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/offer"
)

func TestDisksAreToldByWhatTheyAreAttachedTo(t *testing.T) {
	t.Parallel()
	o := offers("north-fell", "a", "b")
	o.DiskTypes[0].MBps, o.DiskTypes[0].GiBHour = 120, 0.001
	r := rendered(t, net, lan,
		"left: {type: disk, repeat: 3, want: {size: 10GiB, type: solid}}",
		"right: {type: disk, repeat: 3, want: {size: 10GiB, type: solid}}",
		"log: {type: disk, repeat: 3, want: {size: 4GiB, type: solid}}",
		"spare: {type: disk, want: {size: 20GiB, type: solid}}",
		"keeper: {type: instance, repeat: 3, want: {size: plain-2, image: debian-12, subnet: =lan.id, disks: "+
			"[{disk: '=left[index].id', mount: /data}, {disk: '=right[index].id', mount: /data}, {disk: "+
			"'=log[index].id', mount: /log}]}}")
	var got []string
	for _, d := range Layout(r, offer.Everywhere{Home: o}) {
		got = append(got, fmt.Sprintf("%s*%d %s %dx%d %.0f %.2f", d.Machine, d.Machines, d.Mount, d.Count, d.Bytes>>30,
			d.MBps, d.Month))
	}
	want := []string{"keeper*3 /data 2x10 720 43.83", "keeper*3 /log 1x4 360 8.77", "*0  1x20 120 14.61"}
	if !slices.Equal(got, want) {
		t.Errorf("disks %s\nwant  %s", strings.Join(got, "; "), strings.Join(want, "; "))
	}
	if got := Layout(rendered(t, net), offer.Everywhere{}); len(got) != 0 {
		t.Errorf("a network has the disks %v", got)
	}
}
