package machine

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
)

func TestVersion(t *testing.T) {
	for text, want := range map[string]Version{"deb12-base": {"deb12-base", 0}, "deb12-base@1": {"deb12-base", 1}, "x@1000000": {"x", 1000000}} {
		v, err := ParseVersion(text)
		assert.NoError(t, err)
		assert.Equal(t, want, v)
		assert.Equal(t, text, v.String())
	}
	for _, text := range []string{"", "@1", "a@", "a@0", "a@-1", "a@+1", "a@01", "a@1000001", "a@1@2", "a_b", "store/a@1", "machine:a@1"} {
		_, err := ParseVersion(text)
		assert.ErrorIs(t, err, ErrVersion, text)
	}
	l := uuid.New()
	assert.NotEqual(t, Version{"a", 1}.Identity(l, "quay"), Version{"a", 1}.Identity(l, "vessel"))
	assert.NotEqual(t, Version{"a", 1}.Identity(l, "quay"), Version{"a", 11}.Identity(l, "quay"))
}
