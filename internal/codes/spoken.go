package codes

import (
	"strings"

	"golang.org/x/text/language"

	"evenledger/internal/words"
)

// also are names of languages that the tables do not have.
var also = map[string]string{
	"norsk": "no", "mandarin": "zh", "mandarin chinese": "zh", "vlaams": "nl-BE", "castilian": "es", "castellano": "es", "farsi": "fa",
	"tagalog": "fil", "pilipino": "fil", "bokmal": "nb", "nynorsk": "nn", "gaelic": "gd", "irish gaelic": "ga", "slovene": "sl", "moldovan": "ro", "cantonese": "yue",
}

// scripts are words for how a language is written.
var scripts = map[string]string{
	"simplified": "Hans", "traditional": "Hant", "vereinfacht": "Hans", "traditionell": "Hant", "simplifie": "Hans", "traditionnel": "Hant",
	"simplificado": "Hans", "tradicional": "Hant", "latin": "Latn", "cyrillic": "Cyrl", "latin script": "Latn", "cyrillic script": "Cyrl",
}

// peoples are adjectives for how a language is spoken somewhere.
var peoples = map[string]string{
	"british": "GB", "american": "US", "us": "US", "uk": "GB", "australian": "AU", "canadian": "CA", "irish": "IE", "indian": "IN", "south african": "ZA",
	"brazilian": "BR", "mexican": "MX", "argentine": "AR", "argentinian": "AR", "chilean": "CL", "colombian": "CO", "latin american": "419", "latin america": "419",
	"swiss": "CH", "austrian": "AT", "belgian": "BE", "egyptian": "EG", "moroccan": "MA",
}

// of are words between a language and where it is spoken, as in português do Brasil.
var of = []string{" do ", " da ", " de ", " du ", " del ", " dei ", " der ", " von ", " van ", " in ", " of "}

// spoken reads a language with where it is spoken or how it is written: Portuguese (Brazil), British English,
// français du Canada, Chinese (Simplified). What is none of these is nothing.
func (r *Reader) spoken(text string) string {
	if tag := also[words.NameKey(text)]; tag != "" {
		return tag
	}
	if name, where, is := strings.Cut(strings.TrimSuffix(strings.TrimSpace(text), ")"), "("); is {
		return r.within(name, where)
	}
	for _, between := range []string{", ", " - ", " – "} {
		if name, where, is := strings.Cut(text, between); is {
			return r.within(name, where)
		}
	}
	lower := strings.ToLower(text)
	for _, between := range of {
		if at := strings.Index(lower, between); at > 0 && len(lower) == len(text) {
			if tag := r.within(text[:at], text[at+len(between):]); tag != "" {
				return tag
			}
		}
	}
	if at := strings.LastIndexByte(text, ' '); at > 0 { // British English, Simplified Chinese
		first := words.NameKey(text[:at])
		if tag := r.tag(text[at+1:]); tag != "" {
			return joined(tag, scripts[first], peoples[first])
		}
	}
	return ""
}

// within is a language as it is spoken somewhere, or written.
func (r *Reader) within(name, where string) string {
	tag := r.tag(strings.TrimSpace(name))
	if tag == "" {
		return ""
	}
	where = strings.TrimSpace(where)
	region := peoples[words.NameKey(where)]
	if region == "" {
		region = r.countries().code[words.Key(where)]
	}
	return joined(tag, scripts[words.NameKey(where)], region)
}

// tag is that of a language's bare name.
func (r *Reader) tag(name string) string {
	if tag := also[words.NameKey(name)]; tag != "" {
		return tag
	}
	return r.languages().code[words.Key(name)]
}

// joined is a language with a script or a region; without either, nothing.
func joined(tag, script, region string) string {
	if script == "" && region == "" {
		return ""
	}
	for _, part := range []string{script, region} {
		if part != "" {
			tag += "-" + part
		}
	}
	parsed, err := language.Parse(tag)
	if err != nil {
		return ""
	}
	return parsed.String()
}
