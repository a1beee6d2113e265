package secret_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zalando/go-keyring"

	"polytome/internal/secret"
)

func TestPasswordsAreKept(t *testing.T) {
	keyring.MockInit()
	_, err := secret.Find("192.168.0.20", "odile")
	assert.ErrorIs(t, err, secret.ErrNotFound)
	require.NoError(t, secret.Keep("192.168.0.20", "odile", "ferry"))
	p, err := secret.Find("192.168.0.20", "odile")
	require.NoError(t, err)
	assert.Equal(t, "ferry", p)
	_, err = secret.Find("192.168.0.21", "odile")
	assert.ErrorIs(t, err, secret.ErrNotFound)
	require.NoError(t, secret.Forget("192.168.0.20", "odile"))
	assert.ErrorIs(t, secret.Forget("192.168.0.20", "odile"), secret.ErrNotFound)
	keyring.MockInitWithError(errors.New("there is none"))
	err = secret.Keep("a", "b", "hidden")
	assert.ErrorContains(t, err, "no keyring")
	assert.NotContains(t, err.Error(), "hidden")
}
