package sheet_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/sheet"
)

// told is a row with why it is none, if it is none.
type told struct {
	number     int
	cells      string
	why, doubt string
}

func rowsOf(t *testing.T, s *sheet.Sheet) (rows []told) {
	for row, err := range s.Rows() {
		require.NoError(t, err)
		rows = append(rows, told{row.Number, strings.Join(row.Cells, "|"), row.Aside, row.Doubt})
	}
	assert.True(t, s.Info().Read.Even(), "%+v", s.Info().Read)
	return rows
}

// Files that have no headings, or another form than a table.
func TestFilesOfAHost(t *testing.T) {
	const remark, system = "the line is a remark, or names another source of accounts", "a system's own account, by its number "
	for name, c := range map[string]struct {
		text     string
		columns  []string
		format   string
		headings string
		rows     []told
	}{
		"passwd": {
			"root:x:0:0:root:/root:/bin/bash\n# crew\n\nana:$6$salt$hash:1001:1001:Ana Reyes,,,:/home/ana:/bin/bash\r\n+@ops::::::\nscan:x:612:612::/srv/scan:\nnobody:x:65534:65534::/:/bin/false", nil, "passwd", "userName|x|uidNumber|gidNumber|gecos|homeDirectory|loginShell",
			[]told{{1, "root|x|0|0|root|/root|/bin/bash", system + "0", ""}, {2, "# crew", remark, ""}, {4, "ana|x|1001|1001|Ana Reyes,,,|/home/ana|/bin/bash", "", ""}, {5, "+@ops::::::", remark, ""},
				{6, "scan|x|612|612||/srv/scan|", "", "the number 612"}, {7, "nobody|x|65534|65534||/|/bin/false", system + "65534", ""}},
		},
		"group":               {"deck:x:1500:ana,tom\npilots:x:1501:\n", nil, "group", "userName|groups|group number", []told{{1, "ana|deck|1500", "", ""}, {2, "tom|deck|1500", "", ""}, {3, "|pilots|1501", "the file names nobody in the group", ""}}},
		"columns named":       {"ana:x:1001\ntom:x:1002\n", []string{"userName", "x", "uidNumber"}, "CSV", "userName|x|uidNumber", []told{{1, "ana|x|1001", "", ""}, {2, "tom|x|1002", "", ""}}},
		"columns of a table":  {"ana;Reyes, Ana\n\ntom;Okafor, Tom\n", []string{"Login", "Name"}, "CSV", "Login|Name", []told{{1, "ana|Reyes, Ana", "", ""}, {3, "tom|Okafor, Tom", "", ""}}},
		"a fix sheet of such": {"Login,Name,Even Ledger row of batch 3,Even Ledger reasons\nana,Ana,2,x\n", []string{"Login", "Name"}, "CSV", "Login|Name|Even Ledger row of batch 3|Even Ledger reasons", []told{{2, "ana|Ana|2|x", "", ""}}},
		"LDIF": {
			"# export\nversion: 1\ndn: ou=people,dc=x\nobjectClass: organizationalUnit\nou: people\n\n\ndn: uid=zoe,ou=people,\n dc=x\nobjectClass: inetOrgPerson\nobjectclass: posixAccount\ncn:: Wm/DqyDDhW5nc3Ryw7Zt\njpegPhoto:: /9j/4AAQ\nphoto:< file:///etc/shadow\n\ndn: uid=tom,dc=x\nchangetype: delete\n", nil, "LDIF", "dn|objectClass|ou|cn|jpegPhoto|photo|changetype",
			[]told{{3, "ou=people,dc=x|organizationalUnit|people||||", "an entry of the class organizationalUnit, and no person's", ""}, {8, "uid=zoe,ou=people,dc=x|inetOrgPerson; posixAccount||Zoë Ångström|(binary, 6 bytes)|(in another file: file:///etc/shadow)|", "", ""}, {16, "uid=tom,dc=x||||||delete", "it is a change of an entry (delete), and no entry", ""}},
		},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := open(t, []byte(c.text), sheet.Options{Columns: c.columns})
			require.NoError(t, err)
			rows := rowsOf(t, s)
			assert.Equal(t, []string{c.format, c.headings}, []string{s.Info().Format, strings.Join(s.Info().Headings, "|")})
			require.Len(t, rows, len(c.rows))
			for i, want := range c.rows {
				assert.True(t, strings.HasPrefix(rows[i].doubt, want.doubt) && (want.doubt == "") == (rows[i].doubt == ""), rows[i].doubt)
				rows[i].doubt = want.doubt
				assert.Equal(t, want, rows[i])
			}
		})
	}
	for text, want := range map[string]string{
		"ana:$6$abc:19000:0:99999:7:::\ntom:!:19000:0:99999:7:::\n":                                                "password hashes",
		"ana:x:1001:1001::/:/bin/sh\n\n" + strings.Repeat("tom:x:1002:1002::/:/bin/sh\n", 3000) + "what:is this\n": "line 3003: is no line of a passwd file",
		"dn: uid=a\nuid: a\ndn: uid=b\nuid: b\n":                                                                   "line 3: a blank line has to stand between",
		"version: 1\nuid: a\n":                                                                                     "line 2: an entry begins with “dn:”",
		"dn: uid=a\nuid:: not base64!\n":                                                                           "line 2: the value of uid is to be in base64",
		"dn: uid=a\nno colon here\n":                                                                               "line 2: “no colon here” is no line of LDIF",
	} {
		s, err := open(t, []byte(text), sheet.Options{})
		if err == nil {
			for _, err = range s.Rows() {
				if err != nil {
					break
				}
			}
		}
		assert.ErrorContains(t, err, want)
	}
}

// What is written as LDIF reads back as it was.
func TestLDIFComesBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var out bytes.Buffer
		w, err := sheet.NewWriter(&out, "x.ldif", sheet.Form{Attribute: func(h string) string { return map[string]string{"Surname": "sn", "dn": "dn"}[h] }})
		require.NoError(rt, err)
		require.NoError(rt, w.Write([]string{"dn", "Surname"}))
		var want [][2]string
		for range rapid.IntRange(1, 5).Draw(rt, "entries") {
			e := [2]string{rapid.StringMatching(`uid=[a-z]{1,90}`).Draw(rt, "dn"), rapid.StringMatching(`[ :<a-zÅß\n;]{0,120}x`).Draw(rt, "value")}
			want = append(want, e)
			require.NoError(rt, w.Write(e[:]))
		}
		require.NoError(rt, w.Close())
		for line := range strings.SplitSeq(out.String(), "\n") {
			assert.LessOrEqual(rt, len(line), 76)
		}
		s, err := sheet.Read("x", bytes.NewReader(out.Bytes()), sheet.Options{})
		require.NoError(rt, err)
		i := 0
		for row, err := range s.Rows() {
			require.NoError(rt, err)
			assert.Equal(rt, want[i][:], row.Cells[:2])
			i++
		}
		assert.Len(rt, want, i)
	})
}
