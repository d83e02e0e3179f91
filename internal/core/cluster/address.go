package cluster

import (
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// An address says where a server's database or agent is reached. It comes from the
// host that enrols and ends in other servers' access rules, so it is a name or an
// address and nothing else, wherever it arrives and again where it is written.

// hostName matches a name of the domain name system (RFC 1123, section 2.1).
var hostName = regexp.MustCompile(`^` + label + `(\.` + label + `)*$`)

// label is a part of such a name; an underscore is no letter of it, and common all the same.
const label = `[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?`

// meansMore are words that an access file takes for more than one host (PostgreSQL's
// documentation, "The pg_hba.conf File").
var meansMore = []string{"all", "samehost", "samenet"}

// CheckHost refuses what is neither the name of one host nor its address.
func CheckHost(host string) error {
	if ip, err := netip.ParseAddr(host); err == nil && ip.Zone() == "" && !ip.IsUnspecified() && !ip.IsMulticast() {
		return nil
	}
	if len(host) > 253 || !hostName.MatchString(host) || slices.Contains(meansMore, strings.ToLower(host)) ||
		strings.Trim(host, "0123456789.") == "" {
		return fmt.Errorf("%q is neither the name of a host nor its address", host)
	}
	return nil
}

// CheckHostPort refuses what is not such a host with a port.
func CheckHostPort(address string) error {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return fmt.Errorf("%q is not of the form HOST:PORT", address)
	}
	if err := CheckHost(host); err != nil {
		return err
	}
	return checkPort(port)
}

func checkPort(port string) error {
	if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 {
		return fmt.Errorf("%q is no port: it is a number from 1 to 65535", port)
	}
	return nil
}
