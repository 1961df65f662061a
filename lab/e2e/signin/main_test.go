package signin_test

import (
	"testing"

	"kambrel.example/kambrel/lab/e2e/worldtest"
)

func TestMain(m *testing.M) { worldtest.Main(m) }
