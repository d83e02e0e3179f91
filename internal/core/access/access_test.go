package access

import (
	"slices"
	"testing"
)

func TestMay(t *testing.T) {
	for have, may := range map[Scope][]Scope{Metrics: {Metrics}, Watch: {Metrics, Watch},
		ReadData: {Metrics, Watch, ReadData},
		Operate:  {Metrics, Watch, Operate}, Admin: Scopes, "root": nil} {
		for _, s := range Scopes {
			if got := (Token{Scopes: []Scope{have}}).May(s); got != slices.Contains(may, s) {
				t.Errorf("%s for %s: %t", have, s, got)
			}
		}
	}
	some := Token{Clusters: []string{"bookings"}}
	if !some.Sees("bookings") || some.Sees("cargo") || some.Sees("") || !(Token{}).Sees("") || !(Token{}).Sees("cargo") {
		t.Error("clusters")
	}
	for names, ok := range map[string]bool{"watch": true, "root": false, "": false} {
		if _, err := ParseScopes([]string{names}); (err == nil) != ok {
			t.Errorf("%q: %v", names, err)
		}
	}
	if _, err := ParseScopes(nil); err == nil {
		t.Error("a token without a scope")
	}
}
