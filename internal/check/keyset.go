package check

import (
	"hash/maphash"
	"math/bits"
)

// A keySet knows which keys were seen and in which row first. It keeps 96 bits of two
// seeded hashes of a key rather than the key: that two of a million keys collide has a
// chance of about one in 10^17, and a key costs 16 bytes and the room kept free beside it.
//
// It is cut into shards that grow by themselves, a half at a time, so that a sheet of a
// million rows never needs its memory twice while all of it is copied.
type keySet struct {
	seeds  [2]maphash.Seed
	shards [256]shard
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

func newKeySet() *keySet {
	return &keySet{seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}}
}

// at returns the slot of a key in its shard: that which holds it, or an empty one.
func (s *keySet) at(key string) (*shard, *slot, slot) {
	wanted := slot{high: maphash.String(s.seeds[0], key), low: uint32(maphash.String(s.seeds[1], key))}
	in := &s.shards[wanted.high>>56]
	if in.used*5 >= len(in.slots)*4 {
		in.grow()
	}
	return in, in.at(wanted), wanted
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

// add notes that row has the key. If a row before it has, that is returned.
func (s *keySet) add(key string, row int) (first int, taken bool) {
	in, has, wanted := s.at(key)
	if has.row != 0 {
		return int(has.row), true
	}
	in.used++
	wanted.row = int32(row)
	*has = wanted
	return 0, false
}

func (s *keySet) has(key string) bool {
	_, has, _ := s.at(key)
	return has.row != 0
}
