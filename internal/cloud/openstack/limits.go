package openstack

import "undersail/internal/core/offer"

const (
	// mostLetters is how long a name is at most, as the schemas of the interfaces say: compute,
	// network and block storage are agreed on it.
	mostLetters = 255
	// tokenLetters is how many of a key pair's name are ours: a space and the token.
	tokenLetters = 1 + len("us-key-pair-") + 16
	// mostUserData is how many letters of encoded first-boot data compute takes, and
	// forMounts how many bytes of it are kept for what mounts a machine's disks.
	mostUserData = 65535
	forMounts    = 2048
)

// limits are what the interfaces take of values, by their schemas: nobody tells them.
func limits() map[string]offer.Limit {
	out := map[string]offer.Limit{
		"disk.size":          {Step: gib},
		"subnet.range":       {Shortest: 1, Longest: 30, IPv4: true},
		"network.range":      {IPv4: true},
		"key_pair.name":      {Most: mostLetters - int64(tokenLetters)},
		"instance.user_data": {Most: mostUserData/4*3 - forMounts},
	}
	for _, name := range []string{"network", "subnet", "firewall", "instance", "disk"} {
		out[name+".name"] = offer.Limit{Most: mostLetters}
	}
	return out
}
