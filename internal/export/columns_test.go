package export_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/export"
)

var schema = &account.Schema{
	Aliases: map[string]string{"berth": "urn:x:berth"}, Short: map[string]string{"watch": "urn:x:watch"},
	Attributes: []account.Attribute{
		{Field: "urn:x:watch", Description: "night or day", Allowed: []string{"night", "day"}},
		{Field: "urn:x:berth", Description: "where they sleep"},
		{Field: "email", Kind: account.Email, Unique: true},
		{Field: "userName", Kind: account.Login, Required: true, Unique: true},
		{Field: "active", Kind: account.YesNo},
		{Field: "id", ReadOnly: true},
	},
}

func headings(columns []export.Column) (all []string) {
	for _, c := range columns {
		all = append(all, c.Heading)
	}
	return all
}

func TestColumns(t *testing.T) {
	columns, err := export.Columns(schema, nil, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"User name", "Email", "Active", "berth"}, headings(columns), "those of the catalogue first; of the system's own what has an alias")
	assert.Equal(t, "User name; required, unique.\nSuch as: ana.reyes", columns[0].Note)
	assert.Equal(t, []string{" ", "@", ""}, []string{columns[0].Lacks, columns[1].Holds, columns[2].Holds})
	assert.Equal(t, []string{"yes", "no"}, columns[2].Allowed)
	assert.Equal(t, "Left out: watch. With --all they are there too.", export.LeftOut(schema, columns, nil))

	columns, err = export.Columns(schema, nil, true)
	require.NoError(t, err)
	assert.Equal(t, []string{"User name", "Email", "Active", "watch", "berth"}, headings(columns))
	assert.Empty(t, export.LeftOut(schema, columns, nil))
	columns, err = export.Columns(schema, []string{"watch", "userName"}, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"watch", "User name"}, headings(columns), "in the order asked for")

	var mistake *account.Mistake
	_, err = export.Columns(schema, []string{"berht"}, false)
	require.ErrorAs(t, err, &mistake)
	assert.Equal(t, []string{"the system takes no field “berht”", "Did you mean “berth”?"}, []string{mistake.Message, mistake.Remedy})
}
