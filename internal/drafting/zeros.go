package drafting

import (
	"context"
	"strconv"
	"strings"

	"evenledger/internal/account"
)

// sampledKeys is how many accounts are looked at to see how many digits keys have.
const sampledKeys = 50

// alikeButZeros are the values that somebody's key of digits may really be, if a spreadsheet program took zeros away before it, put them
// there, or wrote it as 1E5.
func (d *making) alikeButZeros(ctx context.Context, field, text string) (all []string) {
	if digits, exponent, is := strings.Cut(strings.ToUpper(text), "E"); is && isDigits(digits) && isDigits(exponent) && len(exponent) < 3 {
		if n, err := strconv.Atoi(exponent); err == nil && n < 20 {
			text = digits + strings.Repeat("0", n)
			all = append(all, text)
		}
	}
	if !isDigits(text) {
		return nil
	}
	if bare := strings.TrimLeft(text, "0"); bare != text && bare != "" {
		all = append(all, bare)
	}
	for _, width := range d.digitsOf(ctx)[field] {
		if bare := strings.TrimLeft(text, "0"); len(text) != width && len(bare) < width {
			all = append(all, strings.Repeat("0", width-len(bare))+bare)
		}
	}
	return all
}

// digitsOf are the numbers of digits of the keys of the system that begin with a zero, by field, as far as a few accounts show them.
func (d *making) digitsOf(ctx context.Context) map[string][]int {
	if d.digits != nil {
		return d.digits
	}
	d.digits = map[string][]int{}
	looked := 0
	for a, err := range d.System.List(ctx, d.brief.Match) {
		if err != nil {
			break // who may not list them is told nothing of zeros
		}
		for _, name := range d.brief.Match {
			text := a.Field(name).Text()
			if isDigits(text) && text[0] == '0' && d.about.Field(name).Kind != account.Number {
				known := false
				for _, width := range d.digits[name] {
					known = known || width == len(text)
				}
				if !known {
					d.digits[name] = append(d.digits[name], len(text))
				}
			}
		}
		if looked++; looked == sampledKeys {
			break
		}
	}
	return d.digits
}

func isDigits(text string) bool {
	return text != "" && strings.Trim(text, "0123456789") == ""
}
