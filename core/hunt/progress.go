package hunt

// Progress is how far the hunt of one victim has come.
type Progress struct {
	Victim    string // its ID
	Preparing string // what is being prepared before the first trial, for all victims
	Records   []Record
	Resumed   int     // the number of trials that an interrupted hunt made
	Finding   Finding // its Verdict is empty before the end
	Err       error   // what kept the hunt from its end, or from naming the state
	Note      string  // what happened to the project's files during the hunts; the other fields but Victim then say nothing
}
