package check

import (
	"encoding/binary"
	"hash/maphash"
)

// A keySet knows which keys were seen and in which row first. It keeps 96 bits
// of two seeded hashes of a key rather than the key: that two of a million keys
// collide has a chance of about one in 10^17, and a key costs 16 bytes.
type keySet struct {
	seeds [2]maphash.Seed
	rows  map[[12]byte]int32
}

func newKeySet() *keySet {
	return &keySet{[2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}, map[[12]byte]int32{}}
}

func (s *keySet) hash(key string) (h [12]byte) {
	binary.LittleEndian.PutUint64(h[:8], maphash.String(s.seeds[0], key))
	binary.LittleEndian.PutUint32(h[8:], uint32(maphash.String(s.seeds[1], key)))
	return h
}

// add notes that row has the key. If a row before it has, that is returned.
func (s *keySet) add(key string, row int) (first int, taken bool) {
	h := s.hash(key)
	if first, ok := s.rows[h]; ok {
		return int(first), true
	}
	s.rows[h] = int32(row)
	return 0, false
}

func (s *keySet) has(key string) bool {
	_, ok := s.rows[s.hash(key)]
	return ok
}
