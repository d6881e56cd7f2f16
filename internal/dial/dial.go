// Package dial reads phone numbers.
package dial

import (
	"strconv"

	"github.com/nyaruka/phonenumbers"
)

// Code returns the beginning of a phone number that says which country it is of: "+47". It is "+" for no number.
func Code(number string) string {
	n, err := phonenumbers.Parse(number, "")
	if err != nil {
		return "+"
	}
	return "+" + strconv.Itoa(int(n.GetCountryCode()))
}
