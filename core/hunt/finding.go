package hunt

// Times counts trials that served to be sure.
type Times struct {
	Runs   int `json:"runs"`
	Failed int `json:"failed"`
}

// Tried counts the suspects that were tried alone.
type Tried struct {
	Tests int `json:"tests"`
	Of    int `json:"of"` // all suspects
}

// Finding is the end of a hunt, and a victim of "hunt --json".
type Finding struct {
	ID       string     `json:"id"`
	Verdict  Verdict    `json:"verdict"`
	Culprits [][]string `json:"culprits"` // each a set that suffices; never nil
	Order    []string   `json:"order"`    // the shortest order that shows the bad outcome; never nil
	Trials   int        `json:"trials"`
	Seconds  float64    `json:"trial_s"`          // all trials together
	Changed  []Change   `json:"changed"`          // never nil
	Looked   string     `json:"looked,omitempty"` // where the state that decides was looked for without success
	With     Times      `json:"with"`
	Without  Times      `json:"without"`
	Chance   float64    `json:"chance"`              // the probability of a difference this clear if there is none
	Cleaners []string   `json:"cleaners,omitempty"`  // between culprits and victim, they undo the culprits' work
	Overlap  bool       `json:"overlap,omitempty"`   // the culprits run at the same time, not before
	Met      int        `json:"met,omitempty"`       // the times that a stable victim ran beside what ran at the same time when it was bad
	Each     Tried      `json:"each,omitzero"`       // the suspects right after which a well victim was tried
	Outlived *Outlived  `json:"outlived,omitempty"`  // of a victim that fails alone and in company, and passed before at the same revision
	Fails    []string   `json:"fails_on,omitempty"`  // machines on which a flaky victim always fails in an order,
	Passes   []string   `json:"passes_on,omitempty"` // and those on which it never does
	Mended   [][]string `json:"mended,omitempty"`    // known culprits that turned out to be harmless
	Revision string     `json:"revision,omitempty"`  // of the project at which it was found, if git knows it
	Repairs  []Repair   `json:"repairs,omitempty"`   // of a mended victim: the changes of which one repaired it; none if git cannot say
	Reported *Reported  `json:"reported,omitempty"`  // if it was made elsewhere: nothing was tried here
}

// Reported is what a report says of a finding that was made elsewhere.
type Reported struct {
	In     string `json:"in"`               // the file
	Words  string `json:"words"`            // a sentence
	Remedy string `json:"remedy,omitempty"` // the state that the culprits leave, and where to restore it; empty if that is not known
}

// Outlived says what is known of state that outlives what trials reset.
type Outlived struct {
	Run      int      `json:"run"`               // of the ledger, in which the victim passed
	Reset    []string `json:"reset"`             // what each trial reset
	Unlooked []string `json:"unlooked"`          // what nobody looked at
	Differs  []string `json:"differs,omitempty"` // files that differ from the commit now
}

// Repair is a change of the project.
type Repair struct {
	Revision string `json:"revision,omitempty"` // empty if it is not committed
	Subject  string `json:"subject"`            // of its message; of one that is not committed the files, separated by spaces
}

// Format names the JSON form of findings.
const Format = "fern-hunt/1"

// Report is one hunt's findings in the promised form of "hunt --json".
type Report struct {
	Format  string    `json:"format"`
	Victims []Finding `json:"victims"`
}
