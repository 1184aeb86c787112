package finding

import "testing"

func TestSkeleton(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"unused variable 'depth2'", "unused variable ''"},
		{"declared on line 100 as \"x\" and `y`", "declared on line 0 as '' and ''"},
		{"`old' style", "'' style"},
		{"at 0x7ffe01, 12.5 m", "at 0, 0.0 m"},
		{"doesn't fit, isn't 'x'", "doesn't fit, isn't ''"},
		{"a lone ' quote", "a lone ' quote"},
	} {
		if got := Skeleton(c.in); got != c.want {
			t.Errorf("Skeleton(%q) = %q, want %q", c.in, got, c.want)
		}
	}
}
