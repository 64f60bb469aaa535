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

// What lies in every home, such as folders that a desktop makes, tells nothing.
func TestWhatEveryHomeHoldsTellsNothing(t *testing.T) {
	var all []account.Account
	for i := range 20 {
		all = append(all, account.Account{Machine: fmt.Sprint("m", i), Name: fmt.Sprint("u", i), Person: account.PersonID(i + 1),
			Holds: []string{"Documents", "Pictures", "Desktop"}})
	}
	assert.Empty(t, account.Questions(all, func(_, _ account.PersonID) bool { return false }))
}
