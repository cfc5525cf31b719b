package host

import (
	"fmt"

	"github.com/go-crypt/crypt/algorithm/shacrypt"
)

// rounds of hashing; the C library's own number where none is said.
const rounds = 5000

// hashed returns a password as /etc/shadow keeps it: SHA-512, which every host of these
// tools takes, or SHA-256 where that is what the host is set to.
func hashed(method, password string) (string, error) {
	variant := shacrypt.VariantSHA512
	if method == "SHA256" {
		variant = shacrypt.VariantSHA256
	}
	hasher, err := shacrypt.New(shacrypt.WithVariant(variant), shacrypt.WithIterations(rounds))
	if err != nil {
		return "", fmt.Errorf("the password cannot be hashed: %w", err)
	}
	digest, err := hasher.Hash(password)
	if err != nil {
		return "", fmt.Errorf("the password cannot be hashed: %w", err)
	}
	return digest.Encode(), nil
}
