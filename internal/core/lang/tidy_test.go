package lang

import (
	"io/fs"
	"slices"
	"strings"
	"testing"

	"undersail/examples"
)

func TestTidy(t *testing.T) {
	t.Parallel()
	const untidy = `# The gauge.

outputs:
    a: =net.id   # where


# What is made.
resources:
      # The network
      # of the gauge.
      net:
          want:
                # Its range.
                range: 10.0.0.0/16
          type: network   # private
      rules:
          health:
              - tcp: {host: a,
                      port: 1}
          type: firewall
          want:
                network: =net.id
                rules:
                - {from: 10.0.0.0/8, port: 22}
                -   from: 10.0.0.0/8
                    port: 80
                tags: {motd: "a
                  b"}
      site:
          type: instance
          want:
                size: a
                image: b
                subnet: c
                user_data:
                      write_files:
                            - path: /x
                              content: |
                                  # no comment

                                    kept as it is


                                  end
about: {name: gauge, version: 1.0.0, title: Gauge}
undersail: 1`
	const tidy = `# The gauge.

undersail: 1
about: {name: gauge, version: 1.0.0, title: Gauge}
# What is made.
resources:
  # The network
  # of the gauge.
  net:
    type: network   # private
    want:
      # Its range.
      range: 10.0.0.0/16
  rules:
    type: firewall
    want:
      network: =net.id
      rules:
        - {from: 10.0.0.0/8, port: 22}
        - from: 10.0.0.0/8
          port: 80
      tags: {motd: "a
        b"}
    health:
      - tcp: {host: a,
              port: 1}
  site:
    type: instance
    want:
      size: a
      image: b
      subnet: c
      user_data:
        write_files:
          - path: /x
            content: |
                # no comment

                  kept as it is


                end
outputs:
  a: =net.id   # where
`
	got, found := Tidy("x", []byte(untidy))
	if found.HasErrors() {
		t.Fatal(found)
	}
	if string(got) != tidy {
		t.Errorf("got:\n%s\nwant:\n%s", got, tidy)
	}
	again, _ := Tidy("x", got)
	if string(again) != string(got) {
		t.Errorf("tidying twice gives another text:\n%s", again)
	}
}

func TestTidyKnowsEveryKey(t *testing.T) {
	t.Parallel()
	for _, key := range append(resourceKeys, embedKeys...) {
		if !slices.Contains(tidyResourceKeys, key) {
			t.Errorf("tidying has no place for `%s`", key)
		}
	}
}

func TestTheExamplesAreTidy(t *testing.T) {
	t.Parallel()
	err := fs.WalkDir(examples.Files, ".", func(file string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(file, ".sail.yaml") {
			return err
		}
		source, err := fs.ReadFile(examples.Files, file)
		if err != nil {
			return err
		}
		if tidy, found := Tidy(file, source); string(tidy) != string(source) {
			t.Errorf("%s is not tidy (%v):\n%s", file, found, tidy)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// FuzzTidy looks for texts whose meaning tidying would change or whose comments
// it would lose.
func FuzzTidy(f *testing.F) {
	files, _ := fs.Glob(examples.Files, "*.sail.yaml")
	for _, file := range files {
		source, _ := fs.ReadFile(examples.Files, file)
		f.Add(source)
	}
	f.Fuzz(func(t *testing.T, source []byte) {
		tidy, found := Tidy("x", source)
		if found.HasErrors() {
			return
		}
		if meaning(source) != meaning(tidy) {
			t.Errorf("the meaning changed from\n%s\nto\n%s", source, tidy)
		}
		if a, b := strings.Count(string(source), "#"), strings.Count(string(tidy), "#"); a != b {
			t.Errorf("%d of %d signs of comments are left", b, a)
		}
	})
}
