package consolecore

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	"endeixis/core/survey"
)

// TestHandle: a function takes what it is listed with, and what is not that is an error and
// reaches nobody.
func TestHandle(t *testing.T) {
	t.Parallel()
	var taken []string
	handle := Recognise.Handle(func(in Text) (survey.Recognised, error) {
		taken = append(taken, in.Text)
		if in.Text == "odd" {
			return survey.Recognised{}, errors.New("it is odd")
		}
		return survey.Recognised{Kind: survey.NothingText, Marks: []survey.Mark{}}, nil
	})
	out, err := handle([]byte(`{"text": "a"}`))
	require.NoError(t, err)
	assert.JSONEq(t, `{"kind": "nothing", "says": "", "entries": 0, "marks": []}`, string(out))
	_, err = handle([]byte(`{"text": "odd"}`))
	assert.ErrorContains(t, err, "it is odd")
	_, err = handle([]byte(`{"text": 7}`))
	assert.Error(t, err)
	assert.Equal(t, []string{"a", "odd"}, taken)
}

// TestFunctions: each function has a name of its own, which the console calls it by.
func TestFunctions(t *testing.T) {
	t.Parallel()
	names := map[string]bool{}
	for _, f := range Functions() {
		name, in, out := f.Shape()
		assert.NotEmpty(t, name)
		assert.False(t, names[name], name)
		assert.NotNil(t, in)
		assert.NotNil(t, out)
		names[name] = true
	}
	assert.Len(t, names, 6)
}

// TestAssignment: what the service asks for is carried out as it says; an algorithm of a newer
// service is left out.
func TestAssignment(t *testing.T) {
	t.Parallel()
	size := int64(7)
	a := Assignment{N: 3, Expected: []survey.Stated{{
		Manifest: "SUMS", Line: 2, Algorithms: []string{"SHA-256", "of-tomorrow"}, Digest: digest.Value{1}, Size: &size,
		Doubtful: true,
	}}}
	got := a.Verify()
	assert.Same(t, &a.Target, got.Target)
	require.Len(t, got.Expected, 1)
	assert.Equal(t, survey.Entry{
		Manifest: "SUMS", Line: 2, Algorithms: []digest.Algorithm{digest.SHA256}, Digest: digest.Value{1}, Size: &size,
		Doubtful: true,
	}, got.Expected[0])
}
