package store

import (
	"context"

	"undersail/internal/core/resource"
)

// Carried says that something carries a secret, since it was on a machine that was given it.
type Carried struct {
	// Token is the one of the resource; ID is what its cloud calls it.
	Token, ID, Reference string
}

// Carried lists what of an account carries which secrets that there still are.
func (s *Store) Carried(ctx context.Context, account string) ([]Carried, error) {
	return many[Carried](ctx, s.Pool, `SELECT c.token, coalesce(x.id, '') AS id, c.reference FROM carried c
		JOIN secrets s ON s.reference = c.reference
		JOIN (SELECT r.token, r.attributes->>'id' AS id, k.account FROM resources r JOIN stacks k ON k.id = r.stack_id
		UNION ALL SELECT token, attributes->>'id', account FROM kept) x ON x.token = c.token
		WHERE x.account = $1 ORDER BY c.token, c.reference`, account)
}

// carry notes that the disks of a machine carry what it was given, and what each of them
// carries already; of a command that was given a secret, those of the machine that it runs on.
func (w *Write) carry(r Resource) {
	given := resource.Recorded(resource.Without(r.Want, "key", "through"))
	switch r.Type {
	case resource.TypeInstance:
		w.queue(`WITH disks AS (SELECT token FROM resources WHERE stack_id = $1 AND type = 'disk' AND token <> ''
		AND attributes->>'id' = ANY($2))
			INSERT INTO carried (token, reference) SELECT d.token, x.reference FROM disks d,
			(SELECT unnest($3::text[]) AS reference UNION SELECT reference FROM carried WHERE token IN (SELECT token
			FROM disks)) x ON CONFLICT DO NOTHING`, r.StackID, disksOf(r.Want), given)
	case resource.TypeTask:
		on, _ := r.Want["on"].(string)
		if on == "" || len(given) == 0 {
			return
		}
		w.queue(`INSERT INTO carried (token, reference) SELECT d.token, x FROM resources m
			CROSS JOIN LATERAL jsonb_array_elements(CASE jsonb_typeof(m.want->'disks')
			WHEN 'array' THEN m.want->'disks' ELSE '[]' END) a
			JOIN resources d ON d.stack_id = m.stack_id AND d.attributes->>'id' = a->>'disk' AND d.token <> ''
			CROSS JOIN unnest($3::text[]) x
			WHERE m.stack_id = $1 AND m.type = 'instance' AND $2 IN (m.attributes->>'public_address',
			m.attributes->>'private_address') ON CONFLICT DO NOTHING`, r.StackID, on, given)
	}
}

func disksOf(want map[string]any) []string {
	out := []string{}
	list, _ := want["disks"].([]any)
	for _, x := range list {
		if attached, ok := x.(map[string]any); ok {
			if id, ok := attached["disk"].(string); ok {
				out = append(out, id)
			}
		}
	}
	return out
}
