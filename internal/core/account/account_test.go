package account_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/account"
)

func TestWhatIsAskedOfAccounts(t *testing.T) {
	plans := []string{"Keel lines.odt", "Mast.ods", "Sails", "Tern", "Offsets.csv"}
	all := []account.Account{
		{Machine: "loft", Name: "ines", FullName: "Ines Vale", Person: 1, Holds: plans},
		{Machine: "slip", Name: "Ines", Person: 2},
		{Machine: "slip", Name: "ivale", FullName: "Ines  Vale", Person: 3},
		{Machine: "quay", Name: "iv", FullName: "ines vale", Person: 4, Holds: plans[:4]},
		{Machine: "quay", Name: "oda", Person: 5, Holds: []string{"Keel lines.odt", "Rigging", "Ropes", "Splices", "Knots"}},
		{Machine: "loft", Name: "oda", Person: 5},
		{Machine: "loft", Name: "guest", Person: 6, Holds: plans}, // on the same machine as the first
	}
	asked := map[string][]account.Why{}
	questions := account.Questions(all, func(one, other account.PersonID) bool { return one+other == 5 })
	for _, q := range questions {
		asked[q.One.String()+" "+q.Other.String()] = q.Reasons
	}
	assert.Equal(t, map[string][]account.Why{
		"ines@loft Ines@slip":  {account.SameName},
		"ines@loft ivale@slip": {account.SameFullName},
		"ivale@slip iv@quay":   {account.SameFullName},
		"iv@quay guest@loft":   {account.AlikeHomes},
	}, asked, "of 1 and 4 it was said that they are two")
}

// An account of the same name on many machines is asked about once for each of them; what an answer leaves open is asked then.
func TestOneQuestionForEachAccount(t *testing.T) {
	var all []account.Account
	for i := range 40 {
		all = append(all, account.Account{Machine: fmt.Sprintf("m%02d", i), Name: "ines", Person: account.PersonID(i + 1)})
	}
	none := func(_, _ account.PersonID) bool { return false }
	assert.Len(t, account.Questions(all, none), 39)
	parted := func(one, other account.PersonID) bool { return min(one, other) == 1 && max(one, other) == 2 }
	questions := account.Questions(all, parted)
	assert.Len(t, questions, 39, "the second may still be one with another")
	all[1].FullName, all[39].FullName = "Ines Vale", "Ines Vale"
	assert.Contains(t, account.Questions(all, parted),
		account.Question{One: all[1], Other: all[39], Reasons: []account.Why{account.SameName, account.SameFullName}}, "most in common first")
}

// What lies in every home, such as folders that a desktop makes, tells nothing.
func TestWhatEveryHomeHoldsTellsNothing(t *testing.T) {
	var all []account.Account
	for i := range 20 {
		all = append(all, account.Account{Machine: fmt.Sprint("m", i), Name: fmt.Sprint("u", i), Person: account.PersonID(i + 1),
			Holds: []string{"Documents", "Pictures", "Desktop"}})
	}
	assert.Empty(t, account.Questions(all, func(_, _ account.PersonID) bool { return false }))
}
