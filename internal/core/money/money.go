// Package money holds amounts as integer minor units (cents, öre) with an ISO 4217 code. No amount
// ever passes through a floating-point number.
package money

import (
	"errors"
	"fmt"
	"math"
	"strings"
)

// Amount is a sum of money: Minor counts the minor units of Currency (EUR: cents).
type Amount struct {
	Minor    int64  `json:"minor" doc:"Amount in minor units of the currency"`
	Currency string `json:"currency" doc:"ISO 4217 code"`
}

// ErrSyntax is returned for text that is not a decimal amount of its currency.
var ErrSyntax = errors.New("not an amount")

// exponents lists the ISO 4217 currencies whose minor unit is not a hundredth.
var exponents = map[string]int{
	"BHD": 3, "CLP": 0, "IQD": 3, "ISK": 0, "JOD": 3, "JPY": 0, "KRW": 0, "KWD": 3, "LYD": 3,
	"OMR": 3, "PYG": 0, "RWF": 0, "TND": 3, "UGX": 0, "VND": 0, "VUV": 0, "XAF": 0, "XOF": 0, "XPF": 0,
}

// Exponent tells how many decimals the currency has (ISO 4217 minor unit).
func Exponent(currency string) int {
	if e, ok := exponents[currency]; ok {
		return e
	}
	return 2
}

// ValidCurrency tells whether the text has the form of an ISO 4217 code: three capital letters.
func ValidCurrency(code string) bool {
	if len(code) != 3 {
		return false
	}
	for i := range 3 {
		if code[i] < 'A' || code[i] > 'Z' {
			return false
		}
	}
	return true
}

// Parse reads decimal text such as "12.50", "-3" or "7.5" as minor units of the currency. More
// decimals than the currency has are refused unless they are zeros; so is anything but digits, one
// sign and one point.
func Parse(text, currency string) (int64, error) {
	if !ValidCurrency(currency) {
		return 0, fmt.Errorf("%w: currency %q is not an ISO 4217 code", ErrSyntax, currency)
	}
	s, neg := text, false
	if strings.HasPrefix(s, "-") {
		s, neg = s[1:], true
	}
	whole, frac, dotted := strings.Cut(s, ".")
	if whole == "" || (dotted && frac == "") {
		return 0, fmt.Errorf("%w: %q", ErrSyntax, text)
	}
	exp := Exponent(currency)
	for len(frac) > exp && frac[len(frac)-1] == '0' {
		frac = frac[:len(frac)-1]
	}
	if len(frac) > exp {
		return 0, fmt.Errorf("%w: %q has more decimals than %s", ErrSyntax, text, currency)
	}
	var n int64
	for i := range len(whole) + exp {
		d := byte('0')
		if i < len(whole) {
			d = whole[i]
		} else if j := i - len(whole); j < len(frac) {
			d = frac[j]
		}
		if d < '0' || d > '9' {
			return 0, fmt.Errorf("%w: %q", ErrSyntax, text)
		}
		if n > (math.MaxInt64-9)/10 {
			return 0, fmt.Errorf("%w: %q is too large", ErrSyntax, text)
		}
		n = n*10 + int64(d-'0')
	}
	if neg {
		n = -n
	}
	return n, nil
}

// Decimal writes minor units as plain decimal text without the currency: "12.50".
func Decimal(minor int64, currency string) string {
	exp := Exponent(currency)
	sign := ""
	u := uint64(minor)
	if minor < 0 {
		sign, u = "-", -u
	}
	if exp == 0 {
		return fmt.Sprintf("%s%d", sign, u)
	}
	pow := uint64(math.Pow10(exp))
	return fmt.Sprintf("%s%d.%0*d", sign, u/pow, exp, u%pow)
}

// String writes the amount with its currency: "12.50 EUR".
func (a Amount) String() string { return Decimal(a.Minor, a.Currency) + " " + a.Currency }

// Share returns minor·num/den rounded half away from zero; den must be positive.
func Share(minor, num, den int64) int64 {
	p := minor * num
	if p < 0 {
		return -((-p + den/2) / den)
	}
	return (p + den/2) / den
}
