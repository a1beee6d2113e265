package optical

import (
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
)

// TestTheStructureIsLaidOutAsWindowsHasIt, in ntddscsi.h for 64 bits.
func TestTheStructureIsLaidOutAsWindowsHasIt(t *testing.T) {
	var p passThrough
	assert.EqualValues(t, 8, unsafe.Offsetof(p.direction))
	assert.EqualValues(t, 12, unsafe.Offsetof(p.dataLength))
	assert.EqualValues(t, 16, unsafe.Offsetof(p.seconds))
	assert.EqualValues(t, 24, unsafe.Offsetof(p.data))
	assert.EqualValues(t, 32, unsafe.Offsetof(p.senseAt))
	assert.EqualValues(t, 36, unsafe.Offsetof(p.cdb))
	assert.EqualValues(t, 56, unsafe.Offsetof(p.sense), "behind SCSI_PASS_THROUGH_DIRECT")
}
