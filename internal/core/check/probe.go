package check

// ProbeFault is what the server's own look through its startup files has found: at a file and a
// line, where it says them. message has to be safe to show.
func ProbeFault(file string, line int, message string) Finding {
	return Finding{Code: CodeProbeFault, Severity: Error, File: file, Line: line, Message: message}
}
