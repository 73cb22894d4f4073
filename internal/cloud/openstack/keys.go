package openstack

import (
	"context"
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"

	"undersail/internal/cloud"
)

func init() {
	conducts["key_pair"] = conduct{
		main:   "key",
		see:    seeKey,
		create: makeKey,
		alter:  describes(),
		remove: removes("key"),
		parts:  single("key"),
	}
}

// A key pair has a name alone to be found by. What else we keep stands in the comment of
// its public half, which the cloud gives back as it got it. Nothing of one can be altered.

// keyTags begins, in the comment of a public key, the tags that it has.
const keyTags = " undersail?"

// keyLetters are what names of key pairs may not have.
var keyLetters = regexp.MustCompile(`[^A-Za-z0-9 _-]`)

func seeKey(_ context.Context, w *work) (cloud.Live, error) {
	k := w.part("key")
	public, _, _ := strings.Cut(k.PublicKey, keyTags)
	name, _ := k.keyName()
	l := cloud.Live{
		Phase:      cloud.Ready,
		Name:       name,
		Attributes: map[string]any{"public_key": public},
		Has:        map[string]any{"public_key": public},
	}
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(public)); err == nil {
		l.Attributes["fingerprint"] = ssh.FingerprintSHA256(key)
	}
	return l, nil
}

func makeKey(ctx context.Context, w *work) (cloud.Progress, error) {
	if w.part("key") != nil {
		return w.done(ctx)
	}
	tags := url.Values{}
	for k, v := range w.task.Tags {
		tags.Set(k, v)
	}
	p, err := w.make(ctx, "key", w.ref.Token, map[string]any{
		"name":       keyLetters.ReplaceAllString(fmt.Sprint(w.task.Want["name"]), "-") + " " + w.ref.Token,
		"public_key": strings.TrimSpace(fmt.Sprint(w.task.Want["public_key"])) + keyTags + tags.Encode(),
	})
	p.More = false
	return p, err
}
