package formats

import (
	"bytes"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/imagetest"
)

// What is no disk is not taken for a raw one.
func TestNoDisks(t *testing.T) {
	for _, o := range others {
		file := make(imagetest.Memory, 1024)
		copy(file[o.at:], o.has)
		_, err := Detect(file)
		assert.ErrorContains(t, err, o.name)
	}
}

// A descriptor that has become shorter ends where it ends, and not where the one before it did.
func TestAShorterDescriptor(t *testing.T) {
	vmdk, _ := Of("vmdk")
	var m imagetest.Memory
	w, err := vmdk.Create(&m, image.Order{Size: 1 << 20, Identity: uuid.Max, Name: "x.vmdk"})
	require.NoError(t, err)
	_, err = w.Close()
	require.NoError(t, err)
	from := bytes.Index(m, []byte("# Disk DescriptorFile"))
	end := from + bytes.IndexByte(m[from:], 0)
	text := bytes.Clone(m[from:end])
	at := bytes.Index(text, []byte("\nCID="))
	require.Positive(t, at)
	shorter := append(append(bytes.Clone(text[:at]), "\nCID=1"...), text[at+len("\nCID=00000000"):]...)
	copy(m[from:], append(shorter, 0))
	i, err := vmdk.Open(m, nil)
	require.NoError(t, err)
	assert.Equal(t, "cid 1", i.Identity)
}
