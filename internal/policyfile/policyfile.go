// Package policyfile knows a policy as the YAML files that say it: it reads them, one laid over those that it inherits,
// says what is wrong in them and where, writes a policy as one file, compares two, and finds what in one never matters. It
// doesn't know where the files come from.
package policyfile

import (
	_ "embed"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/policy"
)

// Path is where a repository keeps its policy.
const Path = policy.Path

// File is a policy as files say it, and where each of its values is set. It is immutable once read.
type File struct {
	// Policy is what the files say. While they are read, it lacks what the lists below hold.
	Policy *policy.Policy

	Inherits []policy.Inherited  // in the order they were laid one over the other
	Firm     map[string]Position // the keys that policies which inherit this one can't set, and where it says so
	Origins  map[string]Position // where each value was set, by its keys joined with dots

	// The items of the policy's lists, in its order.
	Severities []Placed[policy.Severity]
	Teams      []Placed[policy.Team]
	Seals      []Placed[policy.Seal]
	Reports    []Placed[policy.Report]
	Recipes    []Placed[*policy.Recipe]
	Hosts      []Placed[*policy.Host]
	Numbers    []Placed[policy.Number]
	House      []Placed[house.Setting]
	Doors      []Door
}

// Placed is an item of a list, and where it is set.
type Placed[T any] struct {
	Value T
	At    Position
}

// Door is a door, and where its parts are set.
type Door struct {
	Placed[policy.Door]
	Limits      []Placed[policy.Limit]
	Waivers     Position // the zero value where the door says nothing
	Acceptances Position
}

// values are the items without their places.
func values[T any](placed []Placed[T]) (all []T) {
	for _, p := range placed {
		all = append(all, p.Value)
	}
	return all
}

// finish puts the lists into the policy, and looks up the names in it.
func (f *File) finish() {
	p := f.Policy
	p.Severities, p.Teams, p.Reports, p.Recipes = values(f.Severities), values(f.Teams), values(f.Reports), values(f.Recipes)
	p.Numbers, p.House, p.Hosts, p.Seals = values(f.Numbers), values(f.House), values(f.Hosts), values(f.Seals)
	for _, d := range f.Doors {
		door := d.Value
		door.Limits = values(d.Limits)
		p.Doors = append(p.Doors, door)
	}
	p.Resolve()
}

// door is the door of that name while the file is read, nil where there is none.
func (f *File) door(name string) *Door {
	if i := slices.IndexFunc(f.Doors, func(d Door) bool { return d.Value.Name == name }); i >= 0 {
		return &f.Doors[i]
	}
	return nil
}

//go:embed schema.json
var schema []byte

// Schema is the JSON Schema (2020-12) of a policy, for editors.
func Schema() []byte { return schema }

//go:embed builtin.yaml
var builtinText []byte

// Builtin is the policy of a repository that has none.
func Builtin() *File {
	f, err := Parse(BuiltinName, builtinText)
	if err != nil {
		panic(err) // the text is part of the program and tested
	}
	return f
}

// BuiltinName is what messages call the built-in policy.
const BuiltinName = "built-in policy"

// BuiltinText is the built-in policy as it is written.
func BuiltinText() []byte { return slices.Clone(builtinText) }

func defaults() *File {
	return &File{
		Policy: &policy.Policy{
			Ladder: policy.Ladder{"error", "warning", "note"}, Baseline: baseline.Path,
			Groups: map[string]*policy.Group{}, Sets: map[string][]string{}, Aliases: map[string]string{},
		},
		Firm: map[string]Position{}, Origins: map[string]Position{},
	}
}
