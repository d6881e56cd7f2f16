// Text messages to phones: which alphabet, and how many segments are paid for.

package compose

import (
	"net/url"
	"strings"
	"unicode/utf16"
)

// The default alphabet of GSM 03.38 (3GPP TS 23.038 §6.2.1) and its extension table, whose
// characters take two places.
const (
	gsmBasic = "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?" +
		"¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà"
	gsmExtended = "\f^{}\\[~]|€"
)

// Segments says how many segments a text needs as SMS, and whether it fits the GSM alphabet: 160
// septets in one segment, 153 in each of several; otherwise UCS-2, with 70 and 67 units (3GPP TS
// 23.040 §9.2.3.24). An empty text needs one.
func Segments(text string) (segments int, gsm bool) {
	septets := 0
	gsm = true
	for _, r := range text {
		switch {
		case strings.ContainsRune(gsmBasic, r):
			septets++
		case strings.ContainsRune(gsmExtended, r):
			septets += 2
		default:
			gsm = false
		}
	}
	if gsm {
		return segmentsOf(septets, 160, 153), true
	}
	return segmentsOf(len(utf16.Encode([]rune(text))), 70, 67), false
}

func segmentsOf(units, one, each int) int {
	if units <= one {
		return 1
	}
	return (units + each - 1) / each
}

// BindCode adds to an SMS the last line by which browsers fill its code in on the pages of one site alone: the
// domain-bound format "@host #code". Without a code it adds nothing.
func BindCode(text, site, code string) (string, error) {
	if code == "" {
		return text, nil
	}
	base, err := url.Parse(site)
	if err != nil {
		return "", err
	}
	return text + "\n\n@" + base.Hostname() + " #" + code, nil
}
