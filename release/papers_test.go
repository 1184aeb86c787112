package main

import (
	"strings"
	"testing"

	"github.com/cpuguy83/go-md2man/v2/md2man"

	"zincdoor/internal/cli"
)

// TestManual: a man page says what the help says, to the letter, and has no mark of the form that it is made by.
func TestManual(t *testing.T) {
	d := cli.Described{
		Path: "zincdoor gate", Short: "Judge a change's *lines* at a_door", Long: "See [it] <here>: `x`, 100% & \"more\".\n\n  as it stands *here*\n\n1. no list", Usage: "zincdoor gate [OPTION]...", Example: "zincdoor gate --number \">15\" # *all*",
		Options: []cli.DescribedOptions{{Heading: "Change (name one)", All: []cli.DescribedOption{{Name: "-q, --quiet", Usage: "it's ~quiet~", Values: []string{"a|b", "c"}}}}},
	}
	page := strings.ReplaceAll(strings.ReplaceAll(string(md2man.Render([]byte(manual(d, "2026-12-01")))), `\-`, "-"), `\&`, "")
	for _, want := range []string{
		"ZINCDOOR-GATE", "zincdoor-gate - Judge a change's *lines* at a_door", "See [it] <here>: `x`, 100% & \"more\".", "as it stands *here*", "1. no list",
		"CHANGE (NAME ONE)", "-q, --quiet", "it's ~quiet~ a|b, c", `zincdoor gate --number ">15" # *all*`, "zincdoor\\fP(1)",
	} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q:\n%s", want, page)
		}
	}
	seen := map[string]bool{}
	for _, c := range cli.Describe() {
		if page := manual(c, "2026-12-01"); seen[c.Path] || c.Short == "" || !strings.Contains(page, "# SYNOPSIS") {
			t.Errorf("%s has no page of its own", c.Path)
		}
		seen[c.Path] = true
	}
	if !seen["zincdoor baseline accept"] {
		t.Error("commands are missing")
	}
}
