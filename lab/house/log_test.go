package house_test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryLogLineIsExplained holds the table of log lines against what the programs write.
func TestEveryLogLineIsExplained(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/running.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(text), "## What the log says")
	require.True(t, found)
	explained := map[string]bool{}
	for line := range strings.Lines(table) {
		cells := strings.Split(line, "|")
		if len(cells) < 2 {
			continue
		}
		for _, match := range regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(cells[1], -1) {
			explained[match[1]] = true
		}
	}
	files, err := exec.Command("git", "-C", "../..", "ls-files", "service", "cli", "agent", "cloud", "directory").Output()
	require.NoError(t, err)
	written := map[string]bool{}
	for name := range strings.Lines(string(files)) {
		if name = strings.TrimSpace(name); !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			continue
		}
		source, err := os.ReadFile("../../" + name)
		require.NoError(t, err)
		for _, match := range regexp.MustCompile(`slog\.(?:Info|Warn|Error)\("([^"]+)"`).FindAllStringSubmatch(string(source), -1) {
			written[match[1]] = true
			assert.True(t, explained[match[1]], "%s writes %q, which docs/running.md does not explain", name, match[1])
		}
	}
	for line := range explained {
		assert.True(t, written[line], "docs/running.md explains %q, which nobody writes", line)
	}
}

// TestEveryMetricIsExplained holds the guide's table and the alerts against the metrics that the
// service has, with their labels.
func TestEveryMetricIsExplained(t *testing.T) {
	t.Parallel()
	source, err := os.ReadFile("../../service/api/health.go")
	require.NoError(t, err)
	has := map[string]bool{}
	names := map[string]bool{}
	for _, match := range regexp.MustCompile(`NewDesc\("(kambrel_\w+)", "[^"]+", (?:nil|\[\]string\{([^}]*)\})`).FindAllStringSubmatch(string(source), -1) {
		names[match[1]] = true
		if labels := strings.NewReplacer(`"`, "", " ", "").Replace(match[2]); labels != "" {
			match[1] += "{" + labels + "}"
		}
		has[match[1]] = true
	}
	require.Greater(t, len(has), 10)
	text, err := os.ReadFile("../../docs/operators-guide.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(text), "## Metrics")
	require.True(t, found)
	explained := map[string]bool{}
	for _, match := range regexp.MustCompile("`(kambrel_[^`]+)`").FindAllStringSubmatch(table, -1) {
		explained[match[1]] = true
	}
	assert.Equal(t, has, explained)
	alerts, err := os.ReadFile("../../docs/alerts.yaml")
	require.NoError(t, err)
	for _, name := range regexp.MustCompile(`kambrel_\w+`).FindAllString(string(alerts), -1) {
		assert.True(t, names[name], "docs/alerts.yaml asks for %s, which there is not", name)
	}
}
