package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/internal/testkit"
)

// foldersBelow returns the folders of a depot in which files lie, relative to it.
func foldersBelow(t *testing.T, depot string) []string {
	t.Helper()
	var out []string
	require.NoError(t, filepath.WalkDir(depot, func(path string, entry os.DirEntry, err error) error {
		require.NoError(t, err)
		if !entry.IsDir() {
			folder, err := filepath.Rel(depot, filepath.Dir(path))
			require.NoError(t, err)
			if parts := strings.Split(folder, "/"); len(parts) >= 2 {
				folder = strings.Join(parts[:2], "/")
			}
			if !slices.Contains(out, folder) {
				out = append(out, folder)
			}
		}
		return nil
	}))
	return out
}

// TestSameElsewhere verifies each folder of the demo twice, read by the service and read
// by the client, and expects the same of every file: verdict, grounds, findings, paths
// and digests. All that differs is that it says who has read it.
func TestSameElsewhere(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	folders := foldersBelow(t, s.Depot)
	require.Greater(t, len(folders), 20)
	t.Run("all", func(t *testing.T) {
		for _, folder := range folders {
			t.Run(folder, func(t *testing.T) {
				t.Parallel()
				there := verified(t, s, "quayside:"+folder)
				here := verified(t, s, filepath.Join(s.Depot, folder))
				assert.Equal(t, there.Counts, here.Counts)
				assert.Equal(t, there.Verdict, here.Verdict)
				assert.Equal(t, there.Absent, here.Absent)
				require.Len(t, here.Items, len(there.Items))
				for i := range there.Items {
					a, b := there.Items[i], here.Items[i]
					require.Equal(t, a.Path, b.Path)
					assert.Equal(t, a.Verdict, b.Verdict, a.Path)
					assert.Equal(t, a.Digests, b.Digests, a.Path)
					assert.Equal(t, a.Size, b.Size, a.Path)
					said := ""
					grounds := slices.DeleteFunc(b.Grounds, func(g judge.Ground) bool {
						if g.Code == judge.MeasuredElsewhere {
							said = g.Sentence
						}
						return g.Code == judge.MeasuredElsewhere
					})
					assert.Equal(t, told(a.Grounds), told(grounds), a.Path)
					if b.Role == "artifact" && !slices.ContainsFunc(b.Grounds, func(g judge.Ground) bool { return g.Code == judge.Unreadable }) {
						assert.Contains(t, said, "by the client on", a.Path)
					}
					assert.Contains(t, b.Where, "client on ")
					require.Len(t, b.Paths, len(a.Paths), a.Path)
					for k := range a.Paths {
						assert.Equal(t, a.Paths[k].Complete, b.Paths[k].Complete, a.Path)
						assert.Equal(t, a.Paths[k].Kind, b.Paths[k].Kind, a.Path)
					}
				}
			})
		}
	})
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

type fullJSON struct {
	ID      int64   `json:"id"`
	State   string  `json:"state"`
	Note    string  `json:"note"`
	Verdict *string `json:"verdict"`
	Counts  struct{ Cleared, Unproven, Refused, Absent int }
	Items   []struct {
		N       int               `json:"n"`
		Path    string            `json:"path"`
		Role    string            `json:"role"`
		Size    int64             `json:"size"`
		Verdict *string           `json:"verdict"`
		Where   string            `json:"where"`
		Digests map[string]string `json:"digests"`
		Grounds []judge.Ground    `json:"grounds"`
		Paths   []judge.ProofPath `json:"paths"`
	} `json:"items"`
	Absent []struct{ Name, Manifest string } `json:"absent"`
}

// verified runs a batch and returns it.
func verified(t *testing.T, s *testkit.Service, where string, more ...string) fullJSON {
	t.Helper()
	r := endeixis(t, s, "operator", append([]string{"batch", "run", where, "--wait", "-o", "json"}, more...)...)
	require.Contains(t, []int{0, 10, 11}, r.code, r.err)
	var out fullJSON
	require.NoError(t, json.Unmarshal([]byte(r.out), &out), r.out)
	assert.Equal(t, "done", out.State)
	return out
}

// told is what grounds say, and why.
func told(grounds []judge.Ground) []string {
	var out []string
	for _, g := range grounds {
		says := string(g.Code) + " " + string(g.Effect) + " " + g.Sentence + " " + g.Expected.String() + " " + g.Computed.String()
		for _, f := range g.Findings {
			// Which other batch has cleared the same bytes by then is left to chance, and
			// with that whether there is nothing else to say.
			if f.Code != diagnose.OtherRelease && f.Code != diagnose.Altered {
				says += "\n  " + string(f.Code) + " " + f.Sentence
			}
		}
		out = append(out, says)
	}
	return out
}

// TestMeasurerInPython verifies folders with a program in another language that knows
// nothing of ours but docs/formats.md, and expects what the service finds itself.
func TestMeasurerInPython(t *testing.T) {
	t.Parallel()
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("there is no python3 here")
	}
	s := testkit.Start(t)
	for _, folder := range []string{"tidewright/gauge-fw-4.2", "tidewright/gauge-fw-4.2-flipped", "tidewright/gauge-fw-4.1-unsigned", "lanternfell/lamp-ctl-3.1", "corran/chart-2026-10-padded"} {
		out, err := exec.CommandContext(t.Context(), python, "measurer/measurer.py", s.URL, s.Token(t, "operator"), filepath.Join(s.Depot, folder)).CombinedOutput()
		require.NoError(t, err, "%s: %s", folder, out)
		id, verdict, _ := strings.Cut(strings.TrimSpace(string(out)), " ")
		there := verified(t, s, "quayside:"+folder)
		assert.Equal(t, *there.Verdict, verdict, folder)
		shown := endeixis(t, s, "operator", "batch", "show", id, "-o", "json")
		var here fullJSON
		require.NoError(t, json.Unmarshal([]byte(shown.out), &here))
		require.Len(t, here.Items, len(there.Items))
		for i := range there.Items {
			assert.Equal(t, there.Items[i].Path, here.Items[i].Path)
			assert.Equal(t, there.Items[i].Digests, here.Items[i].Digests, there.Items[i].Path)
			assert.Equal(t, there.Items[i].Verdict, here.Items[i].Verdict, there.Items[i].Path)
		}
	}
}
