// Package gs1 makes and checks the numbers that are printed as barcodes: GTIN and SSCC (GS1 General
// Specifications, section 7.9: standard check digit calculation) and S10 (UPU standard S10-12).
package gs1

import (
	"fmt"
	"strings"
)

// CheckDigit computes the GS1 check digit of a string of digits: weights 3 and 1 alternate from the
// right. The result is 0 to 9, or -1 where the text holds anything but digits.
func CheckDigit(digits string) int {
	sum, weight := 0, 3
	for i := len(digits) - 1; i >= 0; i-- {
		c := digits[i]
		if c < '0' || c > '9' {
			return -1
		}
		sum += int(c-'0') * weight
		weight = 4 - weight
	}
	return (10 - sum%10) % 10
}

// ValidGTIN tells whether the text is a GTIN-8, -12, -13 or -14 with a right check digit.
func ValidGTIN(text string) bool {
	switch len(text) {
	case 8, 12, 13, 14:
		return validGS1(text)
	}
	return false
}

// ValidSSCC tells whether the text is an 18-digit SSCC with a right check digit.
func ValidSSCC(text string) bool { return len(text) == 18 && validGS1(text) }

func validGS1(text string) bool {
	last := len(text) - 1
	return text[last] >= '0' && text[last] <= '9' && CheckDigit(text[:last]) == int(text[last]-'0')
}

// SSCC makes an 18-digit serial shipping container code from an extension digit, a GS1 company
// prefix and a serial reference that fills what is left of the 17 digits before the check digit.
func SSCC(extension int, companyPrefix string, serial uint64) (string, error) {
	width := 16 - len(companyPrefix)
	ref := fmt.Sprintf("%0*d", max(width, 1), serial)
	if extension < 0 || extension > 9 || width < 1 || len(ref) > width || CheckDigit(companyPrefix) < 0 {
		return "", fmt.Errorf("SSCC: extension %d, prefix %q and serial %d do not make 17 digits", extension, companyPrefix, serial)
	}
	body := fmt.Sprintf("%d%s%s", extension, companyPrefix, ref)
	return fmt.Sprintf("%s%d", body, CheckDigit(body)), nil
}

var s10Weights = [8]int{8, 6, 4, 2, 3, 5, 9, 7}

func s10Check(serial string) int {
	sum := 0
	for i, w := range s10Weights {
		if serial[i] < '0' || serial[i] > '9' {
			return -1
		}
		sum += int(serial[i]-'0') * w
	}
	switch c := 11 - sum%11; c {
	case 10:
		return 0
	case 11:
		return 5
	default:
		return c
	}
}

// S10 makes a 13-character postal item number: service indicator (two letters), eight-digit serial,
// check digit, ISO 3166 country code.
func S10(service string, serial uint32, country string) (string, error) {
	s := fmt.Sprintf("%08d", serial)
	if !letters(service) || !letters(country) || len(s) != 8 {
		return "", fmt.Errorf("S10: service %q, serial %d, country %q", service, serial, country)
	}
	return fmt.Sprintf("%s%s%d%s", service, s, s10Check(s), country), nil
}

// ValidS10 tells whether the text is an S10 number with a right check digit.
func ValidS10(text string) bool {
	return len(text) == 13 && letters(text[:2]) && letters(text[11:]) &&
		text[10] >= '0' && text[10] <= '9' && s10Check(text[2:10]) == int(text[10]-'0')
}

func letters(s string) bool {
	return len(s) == 2 && strings.ToUpper(s) == s && s[0] >= 'A' && s[0] <= 'Z' && s[1] >= 'A' && s[1] <= 'Z'
}
