package connector

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"openrelay/internal/core/message"
)

// Samples that a person keeps beside a definition lie in a folder of its name: those of shop.yaml in shop.samples. Each is a record
// or a whole answer as the other side gives it, or a message of ours as JSON, for what goes out. Its name begins with the feed:
// orders-in.paid.json is one of the feed "orders in". Where orders-in.paid.want.json lies beside it, what becomes of the sample must
// have every value of it; where orders-in.paid.refused.json does, just those of its records are refused that it lists, for those
// reasons.

// SamplesFolder is where the samples of a definition lie.
func SamplesFolder(file string) string {
	return strings.TrimSuffix(file, filepath.Ext(file)) + ".samples"
}

// KeptSample is what became of a sample that is kept beside a definition.
type KeptSample struct {
	File    string       `json:"file"`
	Feed    message.Feed `json:"feed"`
	Records int          `json:"records"`
	Wrong   []string     `json:"wrong" doc:"Why it could not be taken or sent, or what did not come out as it should"`
}

// maxSample bounds a sample, in bytes.
const maxSample = 16 << 20

const (
	wantEnding    = ".want.json"
	refusedEnding = ".refused.json"
)

var sampleName = regexp.MustCompile(`^([a-z]+-(?:in|out))(?:\.[^/]*)?$`)

// RunSamples maps or writes the samples in a folder; one that is not there has none. A name that is none of a sample's is an error.
func (l *Line) RunSamples(ctx context.Context, folder string) ([]KeptSample, error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []KeptSample
	for _, e := range entries {
		n := e.Name()
		if strings.HasSuffix(n, wantEnding) || strings.HasSuffix(n, refusedEnding) || strings.HasPrefix(n, ".") || e.IsDir() {
			continue
		}
		s, err := l.runSample(ctx, filepath.Join(folder, e.Name()))
		if err != nil {
			return out, err
		}
		out = append(out, s)
	}
	return out, err
}

func (l *Line) runSample(ctx context.Context, file string) (KeptSample, error) {
	out := KeptSample{File: filepath.Base(file), Wrong: []string{}}
	name := sampleName.FindStringSubmatch(out.File)
	if name == nil {
		return out, fmt.Errorf("%s: the name of a sample begins with its feed, such as orders-in.1.json", file)
	}
	out.Feed = message.Feed(strings.ReplaceAll(name[1], "-", " "))
	if l.Def.Feeds[out.Feed] == nil {
		out.Wrong = append(out.Wrong, fmt.Sprintf("there is no feed %q; there are: %s", out.Feed, message.FeedList(l.Def.Kinds())))
		return out, nil
	}
	raw, err := readFile(file)
	if err != nil {
		return out, err
	}
	base := strings.TrimSuffix(file, filepath.Ext(file))
	want, err := readFile(base + wantEnding)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return out, err
	}
	refused, err := readRefused(base + refusedEnding)
	if err != nil {
		return out, err
	}
	var got map[string]string
	if ComesIn(out.Feed) {
		out.Records, got, out.Wrong = l.takeSample(out.Feed, raw)
		out.Wrong = otherThan(refused, out.Wrong)
	} else {
		out.Records = 1
		got = l.written(ctx, out.Feed, raw)
	}
	if why, failed := got[wrong]; failed {
		out.Wrong = append(out.Wrong, why)
	} else if want != nil && len(out.Wrong) == 0 {
		out.Wrong = append(out.Wrong, missing(want, got)...)
	}
	return out, nil
}

// readRefused reads which records of a sample are to be refused, and why; none where nothing says so.
func readRefused(file string) (out []string, err error) {
	text, err := readFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: a list of texts is expected: %w", file, err)
	}
	return out, nil
}

// otherThan lists the refusals that were not expected, and what was expected and did not come.
func otherThan(expected, got []string) []string {
	out := []string{}
	for _, why := range got {
		if !slices.Contains(expected, why) {
			out = append(out, why)
		}
	}
	for _, why := range expected {
		if !slices.Contains(got, why) {
			out = append(out, "it is not refused any more: "+why)
		}
	}
	return out
}

func readFile(file string) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := readAtMost(f, maxSample)
	if err != nil {
		err = fmt.Errorf("%s: %w", file, err)
	}
	return raw, err
}

// takeSample maps every record of a sample. It returns what stands at each place of the first.
func (l *Line) takeSample(kind message.Feed, sample []byte) (records int, first map[string]string, bad []string) {
	f := l.Def.Feeds[kind]
	all := f.samplesIn(sample)
	bad = []string{}
	for i, raw := range all {
		t, err := l.try(f, kind, raw)
		if err == nil && t.Mistake != "" {
			err = errors.New(t.Mistake)
		}
		switch {
		case err != nil && len(all) > 1:
			bad = append(bad, fmt.Sprintf("record %d: %v", i+1, err))
		case err != nil:
			bad = append(bad, err.Error())
		case first == nil:
			first = map[string]string{}
			leavesOf(t.Message, "", first)
		}
	}
	return len(all), first, bad
}

// missing says which values of what is wanted did not come out.
func missing(want []byte, got map[string]string) []string {
	wanted := map[string]string{}
	if !leavesOf(want, "", wanted) {
		return []string{"what is wanted of it is no JSON"}
	}
	var out []string
	for path, text := range wanted {
		if got[path] != text {
			out = append(out, fmt.Sprintf("%s is %q, and %q is wanted", path, got[path], text))
		}
	}
	slices.Sort(out)
	return out
}

// Kept is a sample that was kept.
type Kept struct {
	File    string
	Refused []string // its records that are refused, which is wanted from now on
}

// KeepSample writes a sample beside a definition, under a label, with what becomes of it as what is wanted from now on: the message
// of its first record, and which of its records are refused.
func (l *Line) KeepSample(folder string, kind message.Feed, label, ending string, sample []byte, wanted json.RawMessage) (Kept, error) {
	if !sampleLabel.MatchString(label) {
		return Kept{}, fmt.Errorf("%q is no label of a sample; letters, digits and - are expected", label)
	}
	if err := os.MkdirAll(folder, 0o750); err != nil {
		return Kept{}, err
	}
	base := filepath.Join(folder, strings.ReplaceAll(string(kind), " ", "-")+"."+label)
	kept := Kept{File: base + ending}
	if ComesIn(kind) {
		_, _, kept.Refused = l.takeSample(kind, sample)
	}
	if len(kept.Refused) == 0 {
		if err := os.Remove(base + refusedEnding); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return Kept{}, err
		}
	} else if text, err := json.MarshalIndent(kept.Refused, "", "  "); err != nil {
		return Kept{}, err
	} else if err := os.WriteFile(base+refusedEnding, append(text, '\n'), 0o600); err != nil {
		return Kept{}, err
	}
	if err := os.WriteFile(kept.File, sample, 0o600); err != nil {
		return Kept{}, err
	}
	return kept, os.WriteFile(base+wantEnding, append(wanted, '\n'), 0o600)
}

var sampleLabel = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9-]*$`)
