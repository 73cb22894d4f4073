package templates_test

import (
	"testing"

	"undersail/internal/service/servicetest"
)

func TestMain(m *testing.M) { servicetest.Main(m) }
