package tables

import (
	"context"
	"fmt"
)

// Version is that of the tables.
const Version = 10

// oldest is the version of the oldest tables that are brought to this one.
const oldest = 8

// later is what each version after the oldest has besides.
var later = [Version - oldest]string{
	"ALTER TABLE results ADD COLUMN place TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE entries DROP COLUMN wanted",
}

// Bring brings tables to the version that this program writes.
func Bring(ctx context.Context, tx Tx, has int) error {
	switch {
	case has > Version:
		return fmt.Errorf("was written by a newer evenledger (tables of version %d; this one knows %d)", has, Version)
	case has < oldest:
		return fmt.Errorf("has tables of version %d, which this evenledger cannot bring to %d", has, Version)
	}
	for _, statements := range later[has-oldest:] {
		if _, err := tx.Exec(ctx, statements); err != nil {
			return err
		}
	}
	return nil
}
