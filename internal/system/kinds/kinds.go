// Package kinds is the table of the kinds of systems that there are. To add one is to
// write its package and a line here.
package kinds

import (
	"evenledger/internal/system"
	"evenledger/internal/system/files"
	"evenledger/internal/system/host"
	"evenledger/internal/system/ldap"
	"evenledger/internal/system/scim"
	"evenledger/internal/system/web"
)

// All returns every kind, the usual one first.
func All() []system.Kind {
	return []system.Kind{
		scim.Kind(), ldap.Kind(), host.Kind(), files.Kind(), web.Kind(),
	}
}
