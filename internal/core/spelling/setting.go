package spelling

// Setting is the check on spelling as a policy has it on.
type Setting struct {
	Names        bool              // names in code are looked at too
	Dictionaries []string          // paths of word lists beside the English one
	Own          []OwnList         // of the team's own words
	Instead      map[string]string // words that the team avoids, with what it says in their place
	Known        int               // from how many files on a word is the team's own; 0 for none
}

// OwnList is a file with words of the team's own.
type OwnList struct {
	Paths []string // globs of the files that it is for, and names of sets; empty for all
	File  string
}

// Where a team's own words are, and from how many files on a word is its own, where the policy doesn't say.
const (
	OwnWords   = ".zincdoor/words.txt"
	UsualKnown = 5
)

// Rule is the rule that misspelt words are of.
const Rule = "spelling"
