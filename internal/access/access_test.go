package access

import (
	"context"
	"slices"
	"strings"
	"testing"
)

func grants(t *testing.T, texts ...string) Grants {
	t.Helper()
	g, err := ParseGrants(texts)
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func TestRolesHoldWhereTheyAreGiven(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		roles, right, account string
		may                   bool
	}{
		{"operator", Operate, "lab", true},
		{"operator", Operate, "", true},
		{"operator", Publish, "", false},
		{"operator", Administer, "lab", false},
		{"operator@lab", Operate, "lab", true},
		{"operator@lab", Operate, "live", false},
		{"operator@lab", Operate, "", false},
		{"operator@lab", Decide, "lab", true},
		{"admin@lab", Administer, "lab", true},
		{"admin@lab", Administer, "live", false},
		{"admin@lab", Administer, "", false},
		{"admin@lab", Publish, "", false},
		{"viewer reviewer@lab", Decide, "lab", true},
		{"viewer reviewer@lab", Decide, "live", false},
		{"viewer", Operate, "lab", false},
		{"", Operate, "lab", false},
	} {
		if got := grants(t, strings.Fields(c.roles)...).May(c.right, c.account); got != c.may {
			t.Errorf("%q may %s in %q: %t", c.roles, c.right, c.account, got)
		}
	}
}

func TestRolesThatCannotBe(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"", "boss", "Operator", "operator@", "@lab", "keeper@lab", " operator"} {
		if _, err := ParseRole(text); err == nil {
			t.Errorf("%q is a role", text)
		}
		if list, err := ParseGrants([]string{"viewer", text}); err == nil || list != nil {
			t.Errorf("with %q among them there are roles: %v", text, list)
		}
	}
	got := grants(t, "viewer", "operator@lab", "viewer").Strings()
	if !slices.Equal(got, []string{"operator@lab", "viewer"}) {
		t.Errorf("each once and in order: %v", got)
	}
}

func TestNobodyHandsOnWhatTheyDoNotHave(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ has, gives, beyond string }{
		{"admin", "operator keeper admin@lab", ""},
		{"operator", "viewer reviewer operator@lab", ""},
		{"operator", "admin", "admin"},
		{"operator", "keeper", "keeper"},
		{"operator@lab", "viewer@lab reviewer@lab", ""},
		{"operator@lab", "viewer", "viewer"},
		{"operator@lab", "viewer@live", "viewer@live"},
		{"reviewer", "operator", "operator"},
		{"", "viewer", "viewer"},
	} {
		got := strings.Join(grants(t, strings.Fields(c.has)...).Beyond(grants(t, strings.Fields(c.gives)...)).Strings(),
			" ")
		if got != c.beyond {
			t.Errorf("%q gives %q: beyond is %q, want %q", c.has, c.gives, got, c.beyond)
		}
	}
}

func TestWhoHasRolesInAccountsSeesThoseAlone(t *testing.T) {
	t.Parallel()
	if _, everywhere := grants(t, "viewer", "operator@lab").Accounts(); !everywhere {
		t.Error("a role for the whole service does not see all")
	}
	only, everywhere := grants(t, "operator@lab", "viewer@live", "reviewer@lab").Accounts()
	if slices.Sort(only); everywhere || !slices.Equal(only, []string{"lab", "live"}) {
		t.Errorf("%v %t", only, everywhere)
	}
	free, narrow, none := context.Background(), Within(context.Background(), only), Within(context.Background(), nil)
	if !Sees(free, "lab") || Seen(free) != nil || !Sees(narrow, "lab") || Sees(narrow, "quay") || Sees(none, "lab") ||
		Seen(none) == nil {
		t.Error("what is seen under a context is another thing than what it was narrowed to")
	}
}

// TestATokenMayDoTheSmallerOfTwo: for any two lists of roles, what both allow together is
// what each allows.
func TestATokenMayDoTheSmallerOfTwo(t *testing.T) {
	t.Parallel()
	accounts := []string{"", "lab", "live"}
	var all []Role
	for _, name := range Roles() {
		for _, account := range accounts {
			all = append(all, Role{name, account})
		}
	}
	for _, a := range all {
		for _, b := range all {
			for _, c := range all {
				owner, token := Grants{a, c}, Grants{b}
				both := owner.Within(token)
				for _, account := range accounts {
					for _, right := range Rights() {
						got, want := both.May(right, account), owner.May(right, account) && token.May(right, account)
						if got != want {
							t.Fatalf("%v within %v: %s in %q is %v, want %v", owner, token, right, account, got, want)
						}
					}
				}
			}
		}
	}
	only, everywhere := (Grants{{"admin", ""}}).Within(Grants{{"viewer", "lab"}}).Accounts()
	if everywhere || len(only) != 1 || only[0] != "lab" {
		t.Errorf("it sees %v, everywhere %v", only, everywhere)
	}
	if len((Grants{{"admin", "lab"}}).Within(Grants{{"admin", "live"}})) != 0 {
		t.Error("roles in two accounts have something in common")
	}
}

// TestANameGivesNoRight: having given a secret counts only with the rights of this moment.
func TestANameGivesNoRight(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		person string
		grants Grants
		of     Kept
		want   bool
	}{
		{"ada", Grants{{"operator", "lab"}}, Kept{"lab", "ada"}, true},
		{"ada", Grants{{"operator", ""}}, Kept{"", "ada"}, true},
		{"ada", Grants{{"operator", "lab"}}, Kept{"", "ada"}, false},
		{"ada", Grants{{"operator", "lab"}}, Kept{"live", "ada"}, false},
		{"ada", Grants{{"viewer", "lab"}}, Kept{"lab", "ada"}, false},
		{"ada", Grants{{"reviewer", ""}}, Kept{"lab", "ada"}, false},
		{"ada", Grants{{"operator", "lab"}}, Kept{"lab", "bo"}, false},
		{"bo", Grants{{"admin", "lab"}}, Kept{"lab", "ada"}, true},
		{"bo", Grants{{"admin", "lab"}}, Kept{"", "bo"}, false},
		{"bo", Grants{{"admin", ""}}, Kept{"lab", "ada"}, true},
		{"", Grants{{"operator", ""}}, Kept{"", ""}, false},
	} {
		if got := (Actor{Person: c.person, Grants: c.grants}).MayReveal(c.of); got != c.want {
			t.Errorf("%s with %v reveals %+v: %v", c.person, c.grants, c.of, got)
		}
	}
	whole, narrow := Actor{Person: "ada"}, Actor{Person: "ada", Token: 4, Limited: true}
	if !whole.Owns("ada") || narrow.Owns("ada") || whole.Owns("bo") || (Actor{}).Owns("") {
		t.Error("a narrow token is its owner, or nobody is")
	}
	if !narrow.IsOf("ada") || whole.IsOf("bo") {
		t.Error("whoever acts by a token is somebody else")
	}
}
