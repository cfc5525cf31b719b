// Package kinds is the table of the kinds of feeds that there are. To add one is to write its
// package and a line here.
package kinds

import (
	"evenledger/internal/feed"
	"evenledger/internal/feed/folder"
	"evenledger/internal/feed/sftp"
	"evenledger/internal/feed/sqlfeed"
	"evenledger/internal/feed/web"
)

// All returns every kind.
func All() []feed.Kind {
	return []feed.Kind{folder.Kind(), web.Kind(), sftp.Kind(), sqlfeed.Kind()}
}
