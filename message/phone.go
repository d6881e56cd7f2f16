package message

import "strings"

// Phone returns the address of a phone number in E.164 form: a plus sign and 7 to 15 digits, of
// which the first is no zero. The error matches [ErrAddress].
func Phone(number string) (Address, error) {
	digits, plus := strings.CutPrefix(number, "+")
	if !plus || len(digits) < 7 || len(digits) > 15 || digits[0] == '0' || strings.Trim(digits, "0123456789") != "" {
		return Address{}, refuse("a phone number is written with its country code, such as +4790012345")
	}
	return Address{phone: number}, nil
}

// IsPhone reports whether a is a phone number.
func (a Address) IsPhone() bool { return a.phone != "" }

// ParseRecipient reads what [Address.String] returns: a mail address or a phone number.
func ParseRecipient(s string) (Address, error) {
	if strings.HasPrefix(s, "+") && !strings.Contains(s, "@") {
		return Phone(s)
	}
	return ParseAddress(s)
}
