package paper

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestPapersSpeakAllLanguages: whatever stands on a paper is said in each of them, with the same parts.
func TestPapersSpeakAllLanguages(t *testing.T) {
	var source []byte
	for _, name := range []string{"paper.go", "picklist.go", "packingslip.go"} {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		source = append(source, text...)
	}
	var texts []string
	for _, m := range regexp.MustCompile(`say\("([^"]+)"`).FindAllStringSubmatch(string(source), -1) {
		texts = append(texts, m[1])
	}
	texts = append(texts, "Bin", "Product", "Scan", "Item number", "Service", "Order", "To", "Note: %s", "Put in: %s")
	require.Greater(t, len(texts), 25)
	for code, there := range words {
		for _, text := range texts {
			require.NotEmpty(t, there[text], "%s: %s", code, text)
			require.Equal(t, strings.Count(text, "%"), strings.Count(there[text], "%"), "%s: %s", code, text)
		}
	}
}

func TestAPaperIsInTheCompanysLanguage(t *testing.T) {
	for code, says := range map[string]string{"": "Pick list R1", "en": "Pick list R1", "de": "Pickliste R1",
		"fr": "Liste de prélèvement R1",
		"xx": "Pick list R1"} {
		var buf bytes.Buffer
		require.NoError(t, WritePickLists(&buf, A4, PickList{Order: "R1", ShipTo: maren, Printed: time.Now(), Language: code}))
		if words := pdfText(t, buf.Bytes()); words != "" {
			require.Contains(t, words, says)
		}
	}
}
