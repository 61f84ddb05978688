package judge

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"endeixis/core/keyring"
)

// TestWhosePolicyAListHas: a signature that does not count chooses no policy.
func TestWhosePolicyAListHas(t *testing.T) {
	lax := DefaultPolicy()
	lax.CorroborationChannels = 2
	b := Basis{
		Policy: DefaultPolicy(), Own: map[string]Policy{"brackwater": lax},
		Expected: Expectation{Publishers: []string{"tidewright"}, How: "given"},
	}
	signed := &Voucher{best: &checkedSignature{key: &keyring.Key{Publisher: "brackwater"}}}
	assert.Zero(t, b.policyFor(signed).CorroborationChannels)
	signed.best.carries = true
	assert.Equal(t, 2, b.policyFor(signed).CorroborationChannels)
	b.Expected.Publishers = []string{"brackwater"}
	for _, v := range []*Voucher{nil, {}} {
		assert.Equal(t, 2, b.policyFor(v).CorroborationChannels, "an unsigned list is judged as its publisher's")
	}
}
