package memory_test

import (
	"testing"

	"evenledger/internal/system"
	"evenledger/internal/system/memory"
	"evenledger/internal/system/systemtest"
)

func TestSystem(t *testing.T) {
	systemtest.Run(t, systemtest.Person(), func(*testing.T) system.System { return memory.New() })
}

func TestDirectory(t *testing.T) {
	systemtest.Run(t, systemtest.Person(), func(*testing.T) system.System { return memory.NewDirectory("Deck", "Deck/Crew A") })
}
