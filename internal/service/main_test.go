package service_test

import (
	"testing"

	"tinbell/internal/dbtest"
)

func TestMain(m *testing.M) { dbtest.Main(m) }
