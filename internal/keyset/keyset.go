// Package keyset remembers which keys a sheet or a list has, and in which row first, in little memory.
//
// A key is known by 96 bits of two seeded hashes of it and not by itself: that two of a million keys
// collide has a chance of about one in 10^17. It costs 16 bytes and the room kept free beside it.
package keyset

import (
	"hash/maphash"
	"math/bits"
)

// A Set knows keys and the row that each was added with first. It is cut into shards that grow by themselves, a half at
// a time, so that a sheet of a million rows never needs its memory twice while all of it is copied.
type Set struct {
	seeds  [2]maphash.Seed
	shards [256]shard
	used   int
}

type shard struct {
	slots []slot
	used  int
}

// A slot holds the hashes of a key and the row it was seen in; 0: it is empty.
type slot struct {
	high uint64
	low  uint32
	row  int32
}

// New returns an empty set.
func New() *Set { return &Set{seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}} }

// Len is how many keys there are.
func (s *Set) Len() int { return s.used }

func (s *Set) hashed(key string) slot {
	return slot{high: maphash.String(s.seeds[0], key), low: uint32(maphash.String(s.seeds[1], key))}
}

func (s *shard) at(wanted slot) *slot {
	place, _ := bits.Mul64(wanted.high<<8, uint64(len(s.slots))) // the shard is the first byte
	for {
		if has := &s.slots[place]; has.row == 0 || has.high == wanted.high && has.low == wanted.low {
			return has
		}
		if place++; place == uint64(len(s.slots)) {
			place = 0
		}
	}
}

func (s *shard) grow() {
	old := s.slots
	s.slots = make([]slot, max(8, len(old)*3/2))
	for _, has := range old {
		if has.row != 0 {
			*s.at(has) = has
		}
	}
}

// Add notes that a row, which is not 0, has the key. If an earlier one has, that is returned.
func (s *Set) Add(key string, row int) (first int, taken bool) {
	wanted := s.hashed(key)
	in := &s.shards[wanted.high>>56]
	if in.used*5 >= len(in.slots)*4 {
		in.grow()
	}
	has := in.at(wanted)
	if has.row != 0 {
		return int(has.row), true
	}
	in.used++
	s.used++
	wanted.row = int32(row)
	*has = wanted
	return 0, false
}

// First is the row that a key was added with first; 0: it was not.
func (s *Set) First(key string) (row int) {
	wanted := s.hashed(key)
	in := &s.shards[wanted.high>>56]
	if len(in.slots) == 0 {
		return 0
	}
	return int(in.at(wanted).row)
}

// Has reports whether a key was added. No set has any.
func (s *Set) Has(key string) bool { return s != nil && s.First(key) != 0 }
