package cluster

import (
	"errors"
	"regexp"
)

// validName is that of clusters and servers: names become parts of those of
// certificates, slots, accounts and files.
var validName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// CheckName refuses what is no name of a cluster or server.
func CheckName(name string) error {
	if !validName.MatchString(name) {
		return errors.New("use small letters, digits and hyphens, a letter first, at most 31")
	}
	return nil
}
