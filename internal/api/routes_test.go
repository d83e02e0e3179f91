package api

import (
	"encoding/json"
	"testing"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/view"
	"crosstwin/internal/service"
)

// The list of clusters is put together of parts that are encoded once: it is what the type
// would be encoded to.
func TestClustersInJSON(t *testing.T) {
	for n := range 4 {
		want := apitype.Clusters{Clusters: []view.View{}}
		var list []*service.Assessment
		for _, name := range []string{"bookings", "cargo", "berths"}[:min(n, 3)] {
			v := view.View{Cluster: name, Servers: []view.Server{{Name: "gull"}}, Sentence: `says "<&>"`}
			want.Clusters = append(want.Clusters, v)
			list = append(list, &service.Assessment{View: v})
		}
		whole, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		for range 2 {
			if got, err := inJSON(list); err != nil || string(got) != string(whole)+"\n" {
				t.Errorf("%v\n%s\n%s", err, got, whole)
			}
		}
	}
}
