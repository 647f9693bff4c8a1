package place

import (
	"fmt"
	"strconv"
	"strings"
)

// maxBins is how many bins a place may have.
const maxBins = 20_000

// Bins reads the bins of a place, one a line, in the order in which they are walked. A line may be a pattern:
// A-[01-12]-[1-5] stands for A-01-1, A-01-2 … A-12-5, the last part running fastest. Letters run as numbers do: [A-C].
func Bins(text string) ([]string, error) {
	var out []string
	seen := map[string]bool{}
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" {
			continue
		}
		list, err := expand(line, maxBins-len(out))
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", i+1, err)
		}
		for _, bin := range list {
			if bin == "" || len(bin) > 40 {
				return nil, fmt.Errorf("line %d: bin %q: 1 to 40 characters are expected", i+1, bin)
			}
			if seen[bin] {
				return nil, fmt.Errorf("line %d: bin %s stands there twice", i+1, bin)
			}
			seen[bin] = true
			out = append(out, bin)
		}
	}
	return out, nil
}

// expand writes out a pattern.
func expand(pattern string, left int) ([]string, error) {
	before, rest, ok := strings.Cut(pattern, "[")
	if !ok {
		if strings.Contains(pattern, "]") {
			return nil, fmt.Errorf("%q: there is a ] without its [", pattern)
		}
		if left < 1 {
			return nil, fmt.Errorf("a place has at most %d bins", maxBins)
		}
		return []string{pattern}, nil
	}
	inner, after, ok := strings.Cut(rest, "]")
	if !ok {
		return nil, fmt.Errorf("%q: there is a [ without its ]", pattern)
	}
	steps, err := steps(inner)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, s := range steps {
		tails, err := expand(after, left-len(out))
		if err != nil {
			return nil, err
		}
		for _, t := range tails {
			if len(out) == left {
				return nil, fmt.Errorf("a place has at most %d bins", maxBins)
			}
			out = append(out, before+s+t)
		}
	}
	return out, nil
}

// steps writes out what stands between brackets: 01-12, A-C.
func steps(inner string) ([]string, error) {
	a, b, ok := strings.Cut(inner, "-")
	wrong := fmt.Errorf("[%s]: from and to are expected, such as [01-12] or [A-F]", inner)
	if !ok || a == "" || b == "" {
		return nil, wrong
	}
	if len(a) == 1 && len(b) == 1 && a >= "A" && b <= "Z" && a <= b {
		var out []string
		for c := a[0]; c <= b[0]; c++ {
			out = append(out, string(c))
		}
		return out, nil
	}
	from, err1 := strconv.ParseUint(a, 10, 31)
	to, err2 := strconv.ParseUint(b, 10, 31)
	if err1 != nil || err2 != nil || to < from || to-from >= maxBins {
		return nil, wrong
	}
	width := 0
	if strings.HasPrefix(a, "0") {
		width = len(a)
	}
	out := make([]string, 0, to-from+1)
	for n := from; n <= to; n++ {
		out = append(out, fmt.Sprintf("%0*d", width, n))
	}
	return out, nil
}
