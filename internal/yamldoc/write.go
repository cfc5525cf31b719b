package yamldoc

import (
	"bytes"
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"evenledger/internal/words"
)

var plain = regexp.MustCompile(`^[\p{L}][\p{L}\p{N} ._/()-]*[\p{L}\p{N}.)]$`)

// Scalar writes a text as it may stand in a flow mapping of YAML: in quotes where it needs them. Whatever it is, it is one
// value, and breaks no line.
func Scalar(text string) string {
	notText := []string{"yes", "no", "true", "false", "null", "on", "off"} // YAML takes them for something else
	if plain.MatchString(text) && !slices.Contains(notText, strings.ToLower(text)) {
		return text
	}
	return Quoted(text)
}

// Quoted writes a text in double quotes, escaped as JSON has it, which both YAML (1.2, section 7.3.1) and the expression
// language read.
func Quoted(text string) string {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(text); err != nil {
		return `""` // texts always encode
	}
	return string(words.EscapeJSON(bytes.TrimSpace(b.Bytes())))
}
