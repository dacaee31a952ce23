package host

import (
	"encoding/json"

	"fernrelay/core/catalog"
	"fernrelay/core/cause"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
)

// Protocol names the version of the test-host protocol: JSON-RPC 2.0, one
// message a line, requests on the host's standard input, answers and
// notifications on its standard output or over its channel.
const Protocol = "fern-host/1"

// The methods that a host answers.
const (
	MethodHello    = "hello"
	MethodDiscover = "discover"
	MethodRun      = "run"
	MethodReset    = "reset"
	MethodState    = "state"
	MethodRestore  = "restore"
	MethodImports  = "imports"
	MethodRepair   = "repair"
	MethodBye      = "bye"
)

// The notifications that a host sends while it answers MethodRun.
const (
	NoteStarted  = "started"
	NoteStep     = "step"
	NoteOutput   = "output"
	NoteFinished = "finished"
)

// Message is any line of the protocol: a request has a method and an ID, a
// notification a method alone, an answer an ID with a result or an error.
type Message struct {
	Version string          `json:"jsonrpc"`
	ID      *int            `json:"id,omitempty"`
	Method  string          `json:"method,omitempty"`
	Params  json.RawMessage `json:"params,omitempty"`
	Result  json.RawMessage `json:"result,omitempty"`
	Error   *Error          `json:"error,omitempty"`
}

// message is a line of a host: an answer, or a notification with its content.
type message struct {
	Version string          `json:"jsonrpc"`
	ID      *int            `json:"id"`
	Method  string          `json:"method"`
	Params  Note            `json:"params"`
	Result  json.RawMessage `json:"result"`
	Error   *Error          `json:"error"`
}

// Error is the answer of a host that cannot do what it was asked to do.
type Error struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
}

func (e *Error) Error() string { return e.Message }

// HelloParams introduces Fern Relay and the slot in which the host runs.
type HelloParams struct {
	Protocol string  `json:"protocol"`
	Slot     int     `json:"slot"`
	Temp     string  `json:"temp"`
	Channel  Channel `json:"channel"`

	Sources map[string]string `json:"sources,omitempty"` // contents to use instead of those of files, by paths relative to the suite's folder
}

// Channel is a descriptor of the host's for its messages, each a line that begins with the secret and a space, so that no test
// can send one.
type Channel struct {
	Descriptor int    `json:"descriptor"`
	Secret     string `json:"secret"`
}

// HelloResult introduces the host.
type HelloResult struct {
	Protocol string `json:"protocol"`
	Name     string `json:"name"`
	Channel  bool   `json:"channel,omitempty"` // all further messages come over the channel
	Looks    string `json:"looks,omitempty"`   // what its state looks at, in words; empty if it does not say

	Can []string `json:"can,omitempty"` // its abilities; nil if it does not say, and must be asked
}

// The abilities that a host may name in HelloResult.Can. One that names none of the first five is asked for what they are.
const (
	CanState   = MethodState
	CanRestore = MethodRestore
	CanReset   = MethodReset
	CanSteps   = "steps"        // single steps of a test can run
	CanBeside  = "side-by-side" // several of its processes can run at the same time
	CanImports = MethodImports
	CanRepair  = MethodRepair
	CanSources = "sources" // it takes HelloParams.Sources
)

// TestName names a test of the host's suite.
type TestName struct {
	Group string `json:"group"`
	Name  string `json:"name"`
}

// Test is a test that a host has; File is relative to the suite's folder.
type Test struct {
	TestName
	Kind  catalog.Kind  `json:"kind,omitempty"` // KindTest if empty
	File  string        `json:"file,omitempty"`
	Line  int           `json:"line,omitempty"`
	Tags  []string      `json:"tags,omitempty"`
	Rules catalog.Rules `json:"rules"`

	Uses    []string `json:"uses,omitempty"`    // files that it reads, relative to the suite's folder
	Timeout float64  `json:"timeout,omitempty"` // seconds that it may take; 0 for the suite's

	Marks json.RawMessage `json:"marks,omitempty"` // what hosts of an earlier version call rules
}

// DiscoverResult lists the tests in declared order, and the files that cannot be read.
type DiscoverResult struct {
	Tests  []Test   `json:"tests"`
	Broken []Broken `json:"broken,omitempty"`
}

// ImportsResult lists by file those that it imports, all relative to the suite's folder.
type ImportsResult struct {
	Imports map[string][]string `json:"imports"`
}

// Broken is a file whose tests cannot be read. It is an errored entry of its group.
type Broken struct {
	Group   string `json:"group"`
	File    string `json:"file"` // relative to the suite's folder
	Line    int    `json:"line,omitempty"`
	Message string `json:"message"`
}

// RunParams asks for tests in exactly this order, in the host's own process.
type RunParams struct {
	Tests []RunTest `json:"tests"`
}

// RunTest names a test to run, and the only steps of it that shall run; none for all of them.
type RunTest struct {
	TestName
	Steps []string `json:"steps,omitempty"`
}

// Note is the content of every notification; each uses the fields that it needs.
type Note struct {
	TestName
	Step        string      `json:"step,omitempty"`
	Text        string      `json:"text,omitempty"`
	Outcome     run.Outcome `json:"outcome,omitempty"` // passed, failed, errored or skipped
	Seconds     float64     `json:"seconds,omitempty"`
	run.Failure             // its File is relative to the suite's folder

	Class  string        `json:"class,omitempty"`  // of the error, such as KeyError
	Frames []cause.Frame `json:"frames,omitempty"` // that it came through, the deepest first; files as in Failure
}

// RestoreParams names the piece of state to restore to what it was when the state was last requested.
type RestoreParams struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
}

// RepairParams asks for changes of a test's file with which it restores what it leaves, or else sets up what others leave and it needs.
type RepairParams struct {
	TestName
	Changed []Changed `json:"changed"`
	Set     bool      `json:"set,omitempty"`
}

// Changed is a piece of state before a test and after it; nil if it was not there.
type Changed struct {
	Kind   string  `json:"kind"`
	Name   string  `json:"name"`
	Before *string `json:"before,omitempty"`
	After  *string `json:"after,omitempty"`
}

// RepairResult has other contents of the test's file, the most natural first.
type RepairResult struct {
	Contents []string `json:"contents"`
}

// StateResult names the state of the host's process.
type StateResult struct {
	Values []hunt.Value `json:"values"`
}
