package editor

import "encoding/json"

// The messages of the protocol, as far as they are used here (Language Server Protocol 3.17). Lines and characters are 0-based there.

type position struct {
	Line      int `json:"line"`
	Character int `json:"character"`
}

// span is a range: its end is exclusive.
type span struct {
	Start position `json:"start"`
	End   position `json:"end"`
}

type location struct {
	URI   string `json:"uri"`
	Range span   `json:"range"`
}

type severity int

const (
	severityError       severity = 1
	severityWarning     severity = 2
	severityInformation severity = 3
	severityHint        severity = 4
)

// unnecessary is the tag of what editors show faded.
const unnecessary = 1

type diagnostic struct {
	Range    span      `json:"range"`
	Severity severity  `json:"severity"`
	Code     string    `json:"code,omitempty"`
	About    *about    `json:"codeDescription,omitempty"`
	Source   string    `json:"source"`
	Message  string    `json:"message"`
	Tags     []int     `json:"tags,omitempty"`
	Related  []related `json:"relatedInformation,omitempty"`
	Data     *named    `json:"data,omitempty"`
}

type about struct {
	Href string `json:"href"`
}

type related struct {
	Location location `json:"location"`
	Message  string   `json:"message"`
}

// named is what a diagnostic carries to be found again.
type named struct {
	ID string `json:"id"`
}

type textDocument struct {
	URI     string `json:"uri"`
	Version *int   `json:"version,omitempty"`
}

type textDocumentPosition struct {
	TextDocument textDocument `json:"textDocument"`
	Position     position     `json:"position"`
}

type contentChange struct {
	Range *span  `json:"range"` // nil for all of the text
	Text  string `json:"text"`
}

type textEdit struct {
	Range   span   `json:"range"`
	NewText string `json:"newText"`
}

type documentEdit struct {
	TextDocument struct {
		URI     string `json:"uri"`
		Version *int   `json:"version"`
	} `json:"textDocument"`
	Edits []textEdit `json:"edits"`
}

type workspaceEdit struct {
	Changes         map[string][]textEdit `json:"changes,omitempty"`
	DocumentChanges []documentEdit        `json:"documentChanges,omitempty"`
}

type command struct {
	Title     string `json:"title"`
	Command   string `json:"command"`
	Arguments []any  `json:"arguments,omitempty"`
}

type codeAction struct {
	Title       string         `json:"title"`
	Kind        string         `json:"kind"`
	Diagnostics []diagnostic   `json:"diagnostics,omitempty"`
	Preferred   bool           `json:"isPreferred,omitempty"`
	Edit        *workspaceEdit `json:"edit,omitempty"`
	Command     *command       `json:"command,omitempty"`
}

// The kinds of code actions.
const (
	quickFix = "quickfix"
	fixAll   = "source.fixAll"
)

type markup struct {
	Kind  string `json:"kind"`
	Value string `json:"value"`
}

type hover struct {
	Contents markup `json:"contents"`
	Range    *span  `json:"range,omitempty"`
}

type completion struct {
	Label         string   `json:"label"`
	Kind          int      `json:"kind"`
	Documentation string   `json:"documentation,omitempty"`
	Edit          textEdit `json:"textEdit"`
}

// The kinds of completions.
const (
	completesKey   = 10
	completesValue = 12
)

// messageType is how much a message to the user matters.
type messageType int

const (
	messageError   messageType = 1
	messageWarning messageType = 2
	messageInfo    messageType = 3
)

// Codes of errors beside those of JSON-RPC.
const (
	notInitialized  = -32002
	requestFailed   = -32803
	serverCancelled = -32802
)

// clientAbilities are those of the editor that matter here.
type clientAbilities struct {
	General struct {
		PositionEncodings []string `json:"positionEncodings"`
	} `json:"general"`
	TextDocument struct {
		Diagnostic *json.RawMessage `json:"diagnostic"`
		Hover      struct {
			ContentFormat []string `json:"contentFormat"`
		} `json:"hover"`
	} `json:"textDocument"`
	Workspace struct {
		WorkspaceEdit struct {
			DocumentChanges bool `json:"documentChanges"`
		} `json:"workspaceEdit"`
		Diagnostics struct {
			RefreshSupport bool `json:"refreshSupport"`
		} `json:"diagnostics"`
	} `json:"workspace"`
	Window struct {
		WorkDoneProgress bool `json:"workDoneProgress"`
		ShowDocument     struct {
			Support bool `json:"support"`
		} `json:"showDocument"`
	} `json:"window"`
}

type initializeParams struct {
	Capabilities          clientAbilities `json:"capabilities"`
	InitializationOptions json.RawMessage `json:"initializationOptions"`
}

// settings are what the user sets in the editor, all of them optional.
type settings struct {
	Door     string `json:"door"`     // in the place of the call's
	Accepted string `json:"accepted"` // how findings are shown that were accepted or waived: hint or hidden
	Existing string `json:"existing"` // the same of those that were there before the change
	AsksText bool   `json:"asksText"` // the editor answers zincdoor/askText
}

// How settings say that something is shown.
const (
	asHint   = "hint"
	asHidden = "hidden"
)
