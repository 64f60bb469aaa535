package say

// ofPersons say why it is asked whether two accounts are one person's.
var ofPersons = map[string]string{
	"same-name":      "The accounts have the same name.",
	"same-full-name": "The full names are the same.",
	"alike-homes":    "Much of what lies in their homes has the same names.",
}
