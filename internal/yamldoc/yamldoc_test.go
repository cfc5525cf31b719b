package yamldoc_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

func parse(t *testing.T, text string) (*yamldoc.Doc, map[string]yamldoc.Node) {
	doc, err := yamldoc.Parse("f.yaml", []byte(text))
	require.NoError(t, err)
	nodes := map[string]yamldoc.Node{}
	for _, pair := range doc.Root().Pairs() {
		nodes[pair.Key] = pair.Value
	}
	return doc, nodes
}

// A scalar is the text that was written, whatever YAML would make of it.
func TestTextIsWhatWasWritten(t *testing.T) {
	doc, nodes := parse(t, "a: 007\nb: 1e3\nc: true\nd: 'it''s'\ne: \"x\\ty\"\nf: |\n  two\n  lines\ng: plain text\nh: 2027-01-02\ni: ~\nj:\nk: .inf\n")
	for key, want := range map[string]string{"a": "007", "b": "1e3", "c": "true", "d": "it's", "e": "x\ty", "f": "two\nlines", "g": "plain text", "h": "2027-01-02", "i": "", "j": "", "k": ".inf", "none": ""} {
		assert.Equal(t, want, nodes[key].Text(), key)
	}
	assert.NoError(t, doc.Err())
	assert.True(t, nodes["a"].Exists())
	assert.False(t, nodes["i"].Exists() || nodes["j"].Exists() || nodes["none"].Exists())
}

func TestMistakesAreCollected(t *testing.T) {
	doc, nodes := parse(t, "text: [a, b]\nyes: maybe\nsmall: 0\nlarge: 12\nodd: 1.5\nword: blu\nwords: x\nmap:\n  known: 1\n  knwon: 2\n  known: 3\nlist:\n  - a\n  - {b: c}\n")
	nodes["text"].Text()
	nodes["yes"].Bool()
	assert.Equal(t, 1, nodes["small"].Whole(1, 9), "the lowest in place of what is wrong")
	nodes["large"].Whole(1, 9)
	nodes["odd"].Whole(1, 9)
	nodes["word"].OneOf("red", "blue")
	assert.Len(t, nodes["words"].Items(), 1, "a single value is a list of one")
	assert.Empty(t, nodes["words"].Pairs("a"))
	assert.Len(t, nodes["map"].Pairs("known"), 1)
	items := nodes["list"].Items()
	require.Len(t, items, 2)
	items[1].Text()
	items[0].FailAt(2, "mend it", "broken %s", "here")
	err := doc.Err()
	var problems yamldoc.Problems
	require.ErrorAs(t, err, &problems)
	var got []string
	for _, p := range problems {
		got = append(got, p.String())
	}
	assert.Equal(t, []string{
		"f.yaml:1:7: expected a text here, found a list",
		"f.yaml:2:6: expected true or false here, found “maybe”\n    Write true or false.",
		"f.yaml:3:8: expected a whole number from 1 to 9 here, found “0”",
		"f.yaml:4:8: expected a whole number from 1 to 9 here, found “12”",
		"f.yaml:5:6: expected a whole number from 1 to 9 here, found “1.5”",
		"f.yaml:6:7: expected red or blue here, found “blu”\n    Did you mean “blue”?",
		"f.yaml:7:8: expected keys with values here, found “x”",
		"f.yaml:10:3: unknown key “knwon”\n    Did you mean “known”?",
		"f.yaml:11:3: the key “known” stands here a second time\n    Keep one of them.",
		"f.yaml:13:7: broken here\n    mend it",
		"f.yaml:14:5: expected a text here, found keys with values",
	}, got)
}

func TestCannotBeParsed(t *testing.T) {
	for text, want := range map[string]string{
		"a: [1, 2":        "not valid YAML",
		"a: 1\n\tb: 2":    "not valid YAML",
		"a: 1\n---\nb: 2": "a second YAML document",
	} {
		_, err := yamldoc.Parse("f.yaml", []byte(text))
		var problems yamldoc.Problems
		require.ErrorAs(t, err, &problems, text)
		assert.Contains(t, err.Error(), want)
		assert.Positive(t, problems[0].Line)
	}
	doc, err := yamldoc.Parse("f.yaml", nil)
	require.NoError(t, err)
	assert.False(t, doc.Root().Exists())
	assert.Empty(t, doc.Root().Pairs("a"))
	doc.Root().Fail("write something", "nothing is here")
	assert.EqualError(t, doc.Err(), "f.yaml:1:1: nothing is here\n    write something")
}

// Whatever a text is, written into a flow mapping it is one value and reads as itself, and steers no terminal.
func TestScalar(t *testing.T) {
	odd := rapid.SampledFrom([]string{"\x00", "\x1b", "\u009b", "\u202e", "\u2028", "\u0085", "\n", "\t", `"`, "\\", ": ", " #", "{", "]", ",", "yes", "~", "0", "-", "Zoë", "田", " "})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.OneOf(odd, rapid.String()), 0, 4).Draw(t, "text"), "")
		written := yamldoc.Scalar(text)
		assert.NotContains(t, written, "\n")
		assert.False(t, strings.ContainsFunc(written, words.Steers), "%q", written)
		doc, err := yamldoc.Parse("f.yaml", []byte("m: {before: 1, it: "+written+", after: 2}\n"))
		require.NoError(t, err, written)
		var keys []string
		for _, pair := range doc.Root().Pairs()[0].Value.Pairs() {
			if keys = append(keys, pair.Key); pair.Key == "it" {
				assert.Equal(t, text, pair.Value.Text(), written)
			}
		}
		assert.Equal(t, []string{"before", "it", "after"}, keys, written)
	})
}
