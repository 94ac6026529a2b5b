package plan

import "testing"

// The address of a listener is that of this machine, unless a function has another way to it.
func TestReach(t *testing.T) {
	for _, c := range [][3]string{{"", "http://127.0.0.1:8422", "http://127.0.0.1:8422"},
		{"host.quay.internal", "http://127.0.0.1:8422", "http://host.quay.internal:8422"},
		{"10.0.0.1", "mqtt://127.0.0.1:1883", "mqtt://10.0.0.1:1883"},
		{"fd00::1", "http://[::]:8421/cargo/a b?x=1", "http://[fd00::1]:8421/cargo/a b?x=1"}, {"x", "", ""}} {
		if got := Reach(c[0], c[1]); got != c[2] {
			t.Errorf("%s of %s is %s, want %s", c[1], c[0], got, c[2])
		}
	}
	f := &Function{Env: []string{"A={publish:scans}/x", "B={publish:jobs} {publish:scans}", "C=publish:scans"}}
	if got := f.Publishes(); len(got) != 3 || got[1] != "jobs" {
		t.Errorf("%v", got)
	}
	if got := FillPublish(f.Env[1], func(s string) string { return "<" + s + ">" }); got != "B=<jobs> <scans>" {
		t.Error(got)
	}
}
