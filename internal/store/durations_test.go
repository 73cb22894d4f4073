package store

import (
	"context"
	"maps"
	"testing"
)

// TestWhatIsExpectedIsTheMedianOfWhatItTook: of a type anywhere, in a region, and of a size there;
// from three on, of the last 90 days, in one account.
func TestWhatIsExpectedIsTheMedianOfWhatItTook(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	_, err := s.Pool.Exec(ctx, `INSERT INTO durations (account, type, region, size, slot, ms, at)
		SELECT account, type, region, size, slot, ms, now() - days * interval '1 day' FROM (VALUES
			('lab', 'instance', 'north-fell', 'small', 0, 100, 0),
			('lab', 'instance', 'north-fell', 'small', 1, 900, 89),
			('lab', 'instance', 'north-fell', 'small', 2, 200, 0),
			('lab', 'instance', 'north-fell', 'large', 3, 405, 0),
			('lab', 'instance', 'south-skerry', 'small', 4, 5000, 0),
			('lab', 'instance', 'north-fell', 'small', 5, 70000, 91),
			('other', 'instance', 'north-fell', 'small', 6, 1, 0),
			('lab', 'disk', 'north-fell', '', 0, 10, 0), ('lab', 'disk', 'north-fell', '', 1, 30, 0),
			('lab', 'disk', 'north-fell', '', 2, 20, 0), ('lab', 'network', 'north-fell', '', 0, 7, 0),
			('lab', 'network', 'north-fell', '', 1, 7, 0)
		) AS took (account, type, region, size, slot, ms, days)`)
	if err != nil {
		t.Fatal(err)
	}
	list, err := s.Expected(ctx, "lab")
	if err != nil {
		t.Fatal(err)
	}
	got := map[Learned]int64{}
	for _, l := range list {
		of := l
		of.Ms = 0
		if _, twice := got[of]; twice {
			t.Errorf("%+v is told twice", of)
		}
		got[of] = l.Ms
	}
	want := map[Learned]int64{
		{Type: "instance"}:                                      405,
		{Type: "instance", Region: "north-fell"}:                302, // between 200 and 405, the half to the even
		{Type: "instance", Region: "north-fell", Size: "small"}: 200,
		{Type: "disk"}:                                          20,
		{Type: "disk", Region: "north-fell"}:                    20,
	}
	if !maps.Equal(got, want) {
		t.Errorf("expected %v, want %v", got, want)
	}
}
