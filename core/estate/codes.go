package estate

// inWords are what codes of refusals mean, of a workstation that has refused a bundle or has
// taken it back.
var inWords = map[string]string{
	Damaged:   "what came is no bundle",
	OtherShop: "it is another shop's",
	OldNumber: "this one or a later one was taken already",
	Expired:   "it had expired",
	NotForUs:  "it is for others",
	NotKept:   "what was there before is not known there",
	Conflict:  "a gate of that name was made there",

	"target-missing":        "a program is not there",
	"target-not-executable": "a program cannot be executed",
	"target-closed":         "the account may not execute a program",
	"folder-missing":        "a folder is not there",
	"folder-closed":         "the account may not go into a folder",
	"interpreter-missing":   "the interpreter of a script is not there",
	"no-interpreter":        "a script does not say its interpreter",
	"account":               "an account is not there",
	"no-terminal":           "a program wants a terminal, and no terminal is there",
	"no-opening":            "a gate never opens",
	"all-past":              "a gate opens at moments that are past alone",
	"path-hazard":           "others could change what root would start",
	"phrase":                "an opening cannot be read",
	"circle":                "gates open one another in a circle",
	"vars":                  "values of names cannot be read, or are missing",
	"gates":                 "what is there could not be read",
	"write":                 "its gates could not be written",
	"keeper":                "the keeper did not come up with it",
	"too-long":              "it could not be looked at in time",
}

// InWords says what the code of a refusal means, with the code; one that has no words is told
// as it is.
func InWords(code string) string {
	if text, known := inWords[code]; known {
		return text + " (" + code + ")"
	}
	return code
}
