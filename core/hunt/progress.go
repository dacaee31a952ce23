package hunt

// Progress is how far the hunt of one victim has come.
type Progress struct {
	Victim    string // its ID
	Preparing string // what is made ready before the first trial, of all victims
	Records   []Record
	Resumed   int     // how many of the trials were made before, and not again
	Finding   Finding // its Verdict is empty before the end
	Err       error   // what kept the hunt from its end, or from naming the state
}
