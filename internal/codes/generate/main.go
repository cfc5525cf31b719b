// Command generate writes the tables of package codes from Debian's iso-codes
// and tzdata packages and from the names in the Unicode locale data (CLDR).
//
//	go run ./internal/codes/generate internal/codes
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// writtenIn are the languages whose names of countries and languages are read.
var writtenIn = []string{"en", "de", "fr", "es", "pt", "pt-PT", "it", "nl", "pl", "da", "sv", "nb", "fi", "et", "lv", "lt", "cs", "sk", "sl", "hr", "hu", "ro", "el", "tr", "ru", "uk", "id", "ca", "ga", "ja", "zh", "ko", "ar"}

// alsoCalled are names in common use that neither source has.
var alsoCalled = map[string][]string{
	"GB": {"UK", "U.K.", "Great Britain", "Britain", "England", "Scotland", "Wales", "Northern Ireland", "Großbritannien", "Grande-Bretagne", "Gran Bretaña", "Grã-Bretanha", "Gran Bretagna", "Groot-Brittannië"},
	"US": {"USA", "U.S.A.", "U.S.", "America", "United States of America"},
	"AE": {"UAE", "U.A.E.", "VAE", "EAU"},
	"CD": {"DR Congo", "DRC", "Democratic Republic of the Congo", "Congo (Kinshasa)", "RD Congo", "RDC", "République démocratique du Congo", "Demokratische Republik Kongo"},
	"CG": {"Republic of the Congo", "Congo (Brazzaville)", "Republik Kongo", "République du Congo"},
	"NL": {"Holland", "The Netherlands"},
	"CZ": {"Czech Republic"}, "CI": {"Ivory Coast"}, "MM": {"Burma"}, "KR": {"South Korea"},
	"IE": {"Éire", "Republic of Ireland"}, "CV": {"Cape Verde"}, "TR": {"Turkey"}, "RU": {"Russia"},
}

func main() {
	log.SetFlags(0)
	if len(os.Args) != 2 {
		log.Fatal("usage: generate FOLDER")
	}
	for name, lines := range map[string][]string{"countries.tsv": countries(), "languages.tsv": languages(), "zones.txt": zones()} {
		text := strings.Join(lines, "\n") + "\n"
		if err := os.WriteFile(filepath.Join(os.Args[1], name), []byte(text), 0o644); err != nil {
			log.Fatal(err)
		}
	}
}

func read(path string, into any) {
	data, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		log.Fatal(err)
	}
}

func line(code string, names []string) string {
	var kept []string
	for _, name := range names {
		name = strings.TrimSpace(name)
		if name != "" && name != code && !slices.Contains(kept, name) {
			kept = append(kept, name)
		}
	}
	return code + "\t" + strings.Join(kept, "\t")
}

func countries() []string {
	var iso struct {
		Countries []struct {
			Alpha2   string `json:"alpha_2"`
			Alpha3   string `json:"alpha_3"`
			Numeric  string `json:"numeric"`
			Name     string `json:"name"`
			Official string `json:"official_name"`
			Common   string `json:"common_name"`
		} `json:"3166-1"`
	}
	read("/usr/share/iso-codes/json/iso_3166-1.json", &iso)
	var lines []string
	for _, c := range iso.Countries {
		english := display.English.Regions().Name(language.MustParseRegion(c.Alpha2))
		names := []string{english, c.Alpha3, c.Numeric, c.Name, c.Official, c.Common}
		names = append(names, alsoCalled[c.Alpha2]...)
		for _, tag := range writtenIn {
			names = append(names, display.Regions(language.MustParse(tag)).Name(language.MustParseRegion(c.Alpha2)))
		}
		lines = append(lines, line(c.Alpha2, names))
	}
	slices.Sort(lines)
	return lines
}

func languages() []string {
	var iso struct {
		Languages []struct {
			Alpha2 string `json:"alpha_2"`
			Name   string `json:"name"`
		} `json:"639-2"`
	}
	read("/usr/share/iso-codes/json/iso_639-2.json", &iso)
	var lines []string
	for _, l := range iso.Languages {
		if l.Alpha2 == "" {
			continue
		}
		tag, err := language.Parse(l.Alpha2)
		if err != nil || tag.String() != l.Alpha2 {
			continue
		}
		names := append([]string{display.English.Languages().Name(tag)}, strings.Split(l.Name, ";")...)
		names = append(names, display.Self.Name(tag))
		for _, in := range writtenIn {
			names = append(names, display.Languages(language.MustParse(in)).Name(tag))
		}
		lines = append(lines, line(l.Alpha2, names))
	}
	slices.Sort(lines)
	return slices.Compact(lines)
}

func zones() []string {
	file, err := os.Open("/usr/share/zoneinfo/tzdata.zi")
	if err != nil {
		log.Fatal(err)
	}
	defer file.Close()
	var names []string
	for scanner := bufio.NewScanner(file); scanner.Scan(); {
		words := strings.Fields(scanner.Text())
		switch {
		case len(words) > 1 && words[0] == "Z":
			names = append(names, words[1])
		case len(words) > 2 && words[0] == "L":
			names = append(names, words[2])
		}
	}
	if len(names) < 400 {
		log.Fatal(fmt.Errorf("only %d time zones found", len(names)))
	}
	slices.Sort(names)
	return names
}
