package sheet_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/ianaindex"

	"evenledger/internal/sheet"
)

// Names of which no letter's share was taken.
var namesIn = map[string]string{
	"windows-1252": "Zoë Brûlé Anaïs François Hélène Müller Jörg Weiß Käthe Muñoz José Íñigo João Gonçalves Conceição Søren Bjørk Åse Æbelø Öberg Åström Þórður Guðrún Sigurðsson Näkkäläjärvi Niccolò Seán Ó'Súilleabháin Daniëlle",
	"windows-1250": "Łukasz Wiśniewski Żaneta Jabłoński Dvořák Šárka Růžičková Zdeněk Ľubomír Horňák Őze Gyöngyösi Tűzes Đorđe Čavić Žužek Ceauşescu Ţepeş Brâncuşi Křížová Zbyněk Błażej Świątek",
	"windows-1254": "Yılmaz Çağla Şahin Gülşah Öztürk İpek Ağaoğlu Işıl Doğan Kılıç Beyazıt",
	"windows-1257": "Jūratė Žemaitė Kęstutis Ąžuolas Šarūnas Bērziņš Kārlis Ķēniņš Jānis Õnnela Tõnu Pärn",
	"windows-1251": "Иванов Сергей Ольга Кузнецова Щербаков Юлия",
	"windows-1253": "Παπαδόπουλος Γιώργος Ελένη Νικολάου",
	"koi8-r":       "Иванов Сергей Ольга Кузнецова Щербаков Юлия Николай",
	"shift_jis":    "田中 さくら 渡辺 ヒロシ 小林 高橋",
	"gbk":          "王小明 张伟 李娜 刘洋 陈静",
	"euc-kr":       "김민준 이서연 박지훈 최수빈",
	"macintosh":    "Zoë Brûlé Anaïs François Hélène Müller Jörg Weiß",
	"IBM850":       "Zoë Brûlé Anaïs François Hélène Müller Jörg Weiß",
}

// What a text without a name for its encoding is read as is what it was written in, or is told as in doubt; the more names, the
// less often.
func TestEncodingByItsWords(t *testing.T) {
	for name, all := range namesIn {
		codec, err := ianaindex.IANA.Encoding(name)
		require.NoError(t, err, name)
		names := strings.Fields(all)
		random := rand.New(rand.NewPCG(7, 7))
		for _, size := range []int{1, 3, 6} {
			if size == 1 && (name == "macintosh" || name == "IBM850") {
				continue // one name alone says too little for what is hardly used any more
			}
			wrong, doubted, runs := 0, 0, 60
			for range runs {
				var text strings.Builder
				text.WriteString("No,Name\n")
				var want []string
				for n := range size {
					want = append(want, names[random.IntN(len(names))])
					fmt.Fprintf(&text, "%d,%s\n", n, want[n])
				}
				raw, err := codec.NewEncoder().String(text.String())
				require.NoError(t, err)
				info, rows, err := read(t, []byte(raw), sheet.Options{})
				require.NoError(t, err)
				same := true
				for i, row := range rows {
					same = same && row.cells[1] == want[i]
				}
				switch {
				case info.Doubted:
					doubted++
					if name == "windows-1252" && size == 3 {
						t.Log("D", want, info.Encoding, info.Guessed)
					}
				case !same:
					wrong++
					t.Logf("%s: %v read as %s: %v", name, want, info.Encoding, info.Guessed)
				}
			}
			assert.False(t, size > 5 && 4*doubted > runs, "%s: %d of %d in doubt, of %d names", name, doubted, runs, size)
			assert.Zero(t, wrong, "%s read as another, without a word of doubt, of %d names", name, size)
		}
	}
}
