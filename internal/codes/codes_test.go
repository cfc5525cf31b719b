package codes_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/codes"
)

func TestRead(t *testing.T) {
	reader := codes.NewReader(codes.Unsettled)
	for _, c := range []struct {
		kind account.Kind
		in   map[string]string // text → code; "!x" is an error with that code
	}{
		{account.Country, map[string]string{"Portugal": "PT", "PRT": "PT", "pt": "PT", "620": "PT", "UK": "GB", "Scotland": "GB", "Deutschland": "DE", "Ελλάδα": "GR", "Holland": "NL", "Éire": "IE", "Türkiye": "TR", "Suomi": "FI", "Viet Nam": "VN", "Atlantis": "!not-a-country", "EU": "!not-a-country"}},
		{account.Language, map[string]string{"pt": "pt", "pt_br": "pt-BR", "Portuguese": "pt", "português": "pt", "EN-gb": "en-GB", "polski": "pl", "Danish": "da", "suomi": "fi", "Klingonese": "!not-a-language",
			"Portuguese (Brazil)": "pt-BR", "português do Brasil": "pt-BR", "Brazilian Portuguese": "pt-BR", "français du Canada": "fr-CA", "German, Austria": "de-AT", "Deutsch (Schweiz)": "de-CH",
			"Chinese (Simplified)": "zh-Hans", "Traditional Chinese": "zh-Hant", "Serbian (Cyrillic)": "sr-Cyrl", "Spanish (Latin America)": "es-419", "Norsk": "no", "Flemish": "nl",
			"Portuguese (Mars)": "!not-a-language", "English of sorts": "!not-a-language", "Old Norse thing": "!not-a-language", "()": "!not-a-language"}},
		{account.Timezone, map[string]string{"Europe/Lisbon": "Europe/Lisbon", "europe/lisbon": "Europe/Lisbon", "Lisbon": "Europe/Lisbon", "Etc/GMT+1": "Etc/GMT+1", "Etc/GMT-1": "Etc/GMT-1", "UTC": "UTC", "Mars": "!not-a-timezone", "GMT+1": "Etc/GMT-1", "UTC+02:00": "Etc/GMT-2", "UTC−03:00": "Etc/GMT+3", "NZST": "Pacific/Auckland", "(GMT+01:00) Prague": "Europe/Prague", "(UTC+01:00) Nowhere, Belgrade": "Europe/Belgrade", "america/port-au-prince": "America/Port-au-Prince", "CST": "!not-a-timezone", "+05:30": "!not-a-timezone", "GMT+15": "!not-a-timezone"}},
		{account.YesNo, map[string]string{"yes": "true", "Y": "true", "Ja": "true", "sim": "true", "✓": "true", "1": "true", "no": "false", "NEIN": "false", "não": "false", "0": "false", "maybe": "!not-yes-or-no"}},
		{account.Email, map[string]string{"ana.reyes@brindlesound.example": "ana.reyes@brindlesound.example", "o'neill@brindlesound.example": "o'neill@brindlesound.example", "ana": "!not-an-email", "@x.example": "!not-an-email", "ana@x": "!not-an-email", "ana@-x.example": "!not-an-email", "Ana <ana@x.example>": "!not-an-email", "a@x.example;b@x.example": "!not-an-email", ".a@x.example": "!not-an-email", "a..b@x.example": "!not-an-email", "a@x..example": "!not-an-email"}},
		{account.Phone, map[string]string{"+44 (0)20 7946 0018": "+442079460018", "07700 900123": "07700900123", "12": "!not-a-phone", "call me": "!not-a-phone", "+1234567890123456": "!not-a-phone"}},
		{account.Login, map[string]string{"ana.reyes": "ana.reyes", "ana reyes": "!not-sign-in-name", ".": "!not-sign-in-name", "ana.": "!not-sign-in-name", "ana\u200breyes": "!not-sign-in-name"}},
		{account.Number, map[string]string{"12": "12", "+12.5": "12.5", "-3": "-3", "1,5": "!not-a-number", "1e9": "!not-a-number", ".": "!not-a-number"}},
		{account.Date, map[string]string{"2027-03-04": "2027-03-04", "2027/3/4": "2027-03-04", "2027-03-04T10:00:00Z": "2027-03-04", "31/12/2026": "2026-12-31", "12/31/2026": "2026-12-31", "3 March 2027": "2027-03-03", "Mar 3rd, 2027": "2027-03-03", "Wednesday, 3 March 2027": "2027-03-03", "3.4.2027": "2027-04-03", "3/4/2027": "!ambiguous-date", "4/4/2027": "2027-04-04", "31/2/2027": "!not-a-date", "3/4/27": "!not-a-date", "soon": "!not-a-date", "2927-01-01": "!not-a-date"}},
		{account.Text, map[string]string{"anything at all": "anything at all"}},
	} {
		for in, want := range c.in {
			got, err := reader.Read(c.kind, in)
			if want[0] != '!' {
				require.NoError(t, err, "%s %q", c.kind, in)
				assert.Equal(t, want, got, "%s %q", c.kind, in)
				again, err := reader.Read(c.kind, got)
				assert.NoError(t, err)
				assert.Equal(t, got, again, "a standard form stays as it is")
				continue
			}
			var told *codes.Error
			require.ErrorAs(t, err, &told, "%s %q gave %q", c.kind, in, got)
			assert.Equal(t, want[1:], string(told.Code), "%s %q", c.kind, in)
			_, listed := account.Explain(told.Code)
			assert.True(t, listed, told.Code)
		}
	}
	for order, want := range map[codes.DateOrder]string{codes.DayFirst: "2027-04-03", codes.MonthFirst: "2027-03-04"} {
		got, err := codes.NewReader(order).Read(account.Date, "3/4/2027")
		assert.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := reader.Read(account.Country, "Portugall")
	var told *codes.Error
	require.ErrorAs(t, err, &told)
	assert.Contains(t, told.Remedy, "Portugal")
}

func FuzzRead(f *testing.F) {
	f.Add("3/4/2027", uint8(account.Date))
	f.Add("+44 20", uint8(account.Phone))
	f.Add("", uint8(account.Login))
	reader := codes.NewReader(codes.DayFirst)
	f.Fuzz(func(t *testing.T, text string, kind uint8) {
		k := account.Kind(int(kind) % len(account.KindNames()))
		value, err := reader.Read(k, text)
		if err != nil {
			var told *codes.Error
			require.ErrorAs(t, err, &told)
			return
		}
		if k == account.Date && text != "" {
			_, err := time.Parse(time.DateOnly, value)
			require.NoError(t, err)
		}
	})
}

// A number written without a country code gets the one of the brief's country.
func TestPhonesOfACountry(t *testing.T) {
	for region, c := range map[string]map[string]string{
		"":   {"07700 900123": "07700900123", "0044 7700 900123": "+447700900123", "tel:+44-7700-900123": "+447700900123", "TEL:0044.7700": "+447700", "tel:": "!not-a-phone"},
		"GB": {"07700 900123": "+447700900123", "(0)7700 900123": "+447700900123", "+351 282 555 014": "+351282555014", "00351 282 555 014": "+351282555014"},
		"IT": {"06 5550 0101": "+390655500101"},
		"US": {"1 (202) 555-0143": "+12025550143", "202-555-0143": "+12025550143"},
		"HU": {"06 1 555 0101": "+3615550101"},
		"PT": {"282 555 014": "+351282555014", "+0 282": "!not-a-phone"},
	} {
		reader := codes.NewReader(codes.Unsettled)
		reader.Phones = region
		for in, want := range c {
			got, err := reader.Read(account.Phone, in)
			var told *codes.Error
			if want[0] == '!' {
				require.ErrorAs(t, err, &told)
				continue
			}
			require.NoError(t, err)
			assert.Equal(t, want, got, "%s in %s", in, region)
		}
	}
	assert.NoError(t, codes.KnowsPhones("PT"))
	assert.Error(t, codes.KnowsPhones("AQ"))
}

func TestOrderOfDates(t *testing.T) {
	for text, want := range map[string]codes.DateOrder{"14/3/2027": codes.DayFirst, "3/14/2027": codes.MonthFirst, "3/4/2027": codes.Unsettled, "2027-03-14": codes.Unsettled, "soon": codes.Unsettled} {
		assert.Equal(t, want, codes.OrderOf(text), text)
		assert.Equal(t, text == "3/4/2027", codes.IsAmbiguousDate(text))
	}
}
