package position

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// GTID names one transaction of MariaDB: the domain it belongs to, the server
// that wrote it, and its number within the domain (documentation, "Global
// Transaction ID"). Numbers compare within one domain only, and an equal GTID
// is no proof of equal content: a lost tail lets a number be used twice.
type GTID struct {
	Domain uint32
	Server uint32
	Seq    uint64
}

// ParseGTID reads the form domain-server-sequence, such as "1-7-42".
func ParseGTID(s string) (GTID, error) {
	var parts [3]string
	var ok1, ok2 bool
	parts[0], parts[1], ok1 = strings.Cut(s, "-")
	parts[1], parts[2], ok2 = strings.Cut(parts[1], "-")
	if !ok1 || !ok2 || strings.Contains(parts[2], "-") {
		return GTID{}, fmt.Errorf("GTID %q: not of the form DOMAIN-SERVER-SEQUENCE", s)
	}
	var n [3]uint64
	for i, bits := range []int{32, 32, 64} {
		v, err := decimal(parts[i], bits)
		if err != nil {
			return GTID{}, fmt.Errorf("GTID %q: %w", s, err)
		}
		n[i] = v
	}
	return GTID{uint32(n[0]), uint32(n[1]), n[2]}, nil
}

// decimal reads digits only: no sign, no space, no underscore.
func decimal(s string, bits int) (uint64, error) {
	for _, c := range s {
		if c < '0' || c > '9' {
			return 0, fmt.Errorf("%q is not a number", s)
		}
	}
	return strconv.ParseUint(s, 10, bits)
}

// String returns the server's text form.
func (g GTID) String() string { return string(g.append(nil)) }

func (g GTID) append(to []byte) []byte {
	to = append(strconv.AppendUint(to, uint64(g.Domain), 10), '-')
	to = append(strconv.AppendUint(to, uint64(g.Server), 10), '-')
	return strconv.AppendUint(to, g.Seq, 10)
}

// MarshalText implements encoding.TextMarshaler.
func (g GTID) MarshalText() ([]byte, error) { return []byte(g.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (g *GTID) UnmarshalText(b []byte) error {
	v, err := ParseGTID(string(b))
	if err == nil {
		*g = v
	}
	return err
}

func parseGTIDs(s string) ([]GTID, error) {
	var out []GTID
	for f := range strings.SplitSeq(s, ",") {
		if f = strings.TrimSpace(f); f == "" {
			continue
		}
		g, err := ParseGTID(f)
		if err != nil {
			return nil, err
		}
		out = append(out, g)
	}
	return out, nil
}

func joinGTIDs(list []GTID) string {
	var out []byte
	for i, g := range list {
		if i > 0 {
			out = append(out, ',')
		}
		out = g.append(out)
	}
	return string(out)
}

// GTIDPosition is how far a server has come: the last GTID of each domain, in
// order of domain, as in gtid_slave_pos, gtid_binlog_pos and Gtid_IO_Pos. It is a
// value: two that are equal are equal by ==, and none ever changes.
type GTIDPosition struct{ text string }

// ParseGTIDPosition reads the server's text form; a domain that stands twice
// is an error.
func ParseGTIDPosition(s string) (GTIDPosition, error) {
	list, err := parseGTIDs(s)
	if err != nil {
		return GTIDPosition{}, err
	}
	slices.SortFunc(list, byDomain)
	for i := 1; i < len(list); i++ {
		if list[i].Domain == list[i-1].Domain {
			return GTIDPosition{}, fmt.Errorf("GTID position %q: domain %d stands twice", s, list[i].Domain)
		}
	}
	return GTIDPosition{joinGTIDs(list)}, nil
}

// PositionOf returns the position in which each of these is the last of its domain; of
// several of one domain, the last one given.
func PositionOf(list ...GTID) (p GTIDPosition) {
	for _, g := range list {
		p = p.With(g)
	}
	return p
}

// String returns the server's text form.
func (p GTIDPosition) String() string { return p.text }

// IsZero reports whether it is that of a server without any transaction.
func (p GTIDPosition) IsZero() bool { return p.text == "" }

// All returns the last GTID of each domain.
func (p GTIDPosition) All() []GTID { return listed(p.text) }

// With returns the position after a transaction: it is the last of its domain.
func (p GTIDPosition) With(g GTID) GTIDPosition {
	list := slices.DeleteFunc(p.All(), func(x GTID) bool { return x.Domain == g.Domain })
	list = append(list, g)
	slices.SortFunc(list, byDomain)
	return GTIDPosition{joinGTIDs(list)}
}

// In returns the position within a domain.
func (p GTIDPosition) In(domain uint32) (GTID, bool) {
	for _, g := range p.All() {
		if g.Domain == domain {
			return g, true
		}
	}
	return GTID{}, false
}

// Reaches reports whether p has come at least as far as o in every domain of o,
// by number. It says nothing about content.
func (p GTIDPosition) Reaches(o GTIDPosition) bool { return len(p.Missing(o)) == 0 }

// Lacks returns how many transactions of o are missing in p, by number, in all
// domains together.
func (p GTIDPosition) Lacks(o GTIDPosition) uint64 {
	var n uint64
	for _, g := range o.All() {
		mine, _ := p.In(g.Domain)
		if g.Seq > mine.Seq {
			n += g.Seq - mine.Seq
		}
	}
	return n
}

// Missing returns those of o's domains in which p has not come as far.
func (p GTIDPosition) Missing(o GTIDPosition) []GTID {
	var out []GTID
	for _, g := range o.All() {
		if mine, ok := p.In(g.Domain); !ok || mine.Seq < g.Seq {
			out = append(out, g)
		}
	}
	return out
}

// GTIDState is the newest number that each server wrote in each domain, as in
// gtid_binlog_state, in order of domain and server. It is a value, as a position is.
type GTIDState struct{ text string }

// ParseGTIDState reads the server's text form.
func ParseGTIDState(s string) (GTIDState, error) {
	list, err := parseGTIDs(s)
	if err != nil {
		return GTIDState{}, err
	}
	slices.SortFunc(list, byDomainAndServer)
	for i := 1; i < len(list); i++ {
		if list[i].Domain == list[i-1].Domain && list[i].Server == list[i-1].Server {
			return GTIDState{}, fmt.Errorf("GTID state %q: server %d stands twice in domain %d", s, list[i].Server,
				list[i].Domain)
		}
	}
	return GTIDState{joinGTIDs(list)}, nil
}

// StateOf returns the state in which each of these is the newest of its server and
// domain; of several, the last one given.
func StateOf(list ...GTID) (s GTIDState) {
	for _, g := range list {
		s = s.With(g)
	}
	return s
}

// String returns the server's text form.
func (s GTIDState) String() string { return s.text }

// IsZero reports whether it is that of a log without any transaction.
func (s GTIDState) IsZero() bool { return s.text == "" }

// All returns the newest GTID of each server and domain.
func (s GTIDState) All() []GTID { return listed(s.text) }

// Unapplied returns the transactions of other servers that a log holds beyond what
// was applied: a replica commits both as one, so its data lacks them. Those of the
// server itself were never applied, but written.
func (s GTIDState) Unapplied(applied GTIDPosition, own uint32) []GTID {
	var out []GTID
	for _, g := range s.All() {
		if at, _ := applied.In(g.Domain); g.Server != own && g.Seq > at.Seq {
			out = append(out, g)
		}
	}
	return out
}

// Last returns the position of a state: the newest number of each domain.
func (s GTIDState) Last() (p GTIDPosition) {
	for _, g := range s.All() {
		if at, known := p.In(g.Domain); !known || g.Seq > at.Seq {
			p = p.With(g)
		}
	}
	return p
}

// Newest returns the newest number of a server in a domain.
func (s GTIDState) Newest(domain, server uint32) (GTID, bool) {
	for _, g := range s.All() {
		if g.Domain == domain && g.Server == server {
			return g, true
		}
	}
	return GTID{}, false
}

// With returns the state after a further transaction.
func (s GTIDState) With(g GTID) GTIDState {
	list := slices.DeleteFunc(s.All(), func(x GTID) bool { return x.Domain == g.Domain && x.Server == g.Server })
	list = append(list, g)
	slices.SortFunc(list, byDomainAndServer)
	return GTIDState{joinGTIDs(list)}
}

// Extra returns what s holds beyond o: for each domain and server whose number is
// higher in s, or that o does not know, the GTID up to which s went. Something
// here is certain proof of a tail; nothing here proves no kinship (a number may
// have been used twice).
func (s GTIDState) Extra(o GTIDState) []GTID {
	var out []GTID
	for _, g := range s.All() {
		if known, _ := o.Newest(g.Domain, g.Server); g.Seq > known.Seq {
			out = append(out, g)
		}
	}
	return out
}

// Tally is a state that grows while a log is read, transaction by transaction.
type Tally map[tallied]GTID

type tallied struct{ domain, server uint32 }

// Tally begins with what the state holds.
func (s GTIDState) Tally() Tally {
	t := Tally{}
	t.Add(s.All()...)
	return t
}

// Add notes transactions, in order: each is the newest of its server and domain.
func (t Tally) Add(list ...GTID) {
	for _, g := range list {
		t[tallied{g.Domain, g.Server}] = g
	}
}

// State returns what was noted so far.
func (t Tally) State() GTIDState {
	list := slices.SortedFunc(maps.Values(t), byDomainAndServer)
	return GTIDState{joinGTIDs(list)}
}

func byDomain(a, b GTID) int { return cmp.Compare(a.Domain, b.Domain) }

func byDomainAndServer(a, b GTID) int {
	return cmp.Or(byDomain(a, b), cmp.Compare(a.Server, b.Server))
}

// listed reads a text that was made here.
func listed(text string) []GTID {
	list, _ := parseGTIDs(text)
	return list
}

// ForkOf finds where two histories of one domain part: both are transactions
// in log order, number gives the one's sequence number and same tells whether
// two are the same by content. It gives the number of entries of a and of b
// that belong to what they share, counted from the first entry of the one that
// begins later; ok is false when the two do not overlap, so that nothing can be
// said.
func ForkOf[E any](a, b []E, number func(E) uint64, same func(a, b E) bool) (inA, inB int, ok bool) {
	i, j := 0, 0
	if len(a) == 0 || len(b) == 0 {
		return 0, 0, false
	}
	// Logs begin at different places: step forward in the one that is older.
	for i < len(a) && number(a[i]) < number(b[0]) {
		i++
	}
	for j < len(b) && i < len(a) && number(b[j]) < number(a[i]) {
		j++
	}
	if i == len(a) || j == len(b) || number(a[i]) != number(b[j]) {
		return 0, 0, false
	}
	for i < len(a) && j < len(b) && same(a[i], b[j]) {
		i, j = i+1, j+1
	}
	return i, j, true
}

// Coordinates are a place in a binary log: file and byte.
type Coordinates struct {
	File   string
	Offset uint64
}

// ParseCoordinates reads the form FILE:OFFSET.
func ParseCoordinates(s string) (Coordinates, error) {
	i := strings.LastIndexByte(s, ':')
	if i <= 0 {
		return Coordinates{}, fmt.Errorf("log coordinates %q: not of the form FILE:OFFSET", s)
	}
	n, err := decimal(s[i+1:], 64)
	if err != nil || strings.ContainsAny(s[:i], "/:\x00") {
		return Coordinates{}, fmt.Errorf("log coordinates %q: not of the form FILE:OFFSET", s)
	}
	return Coordinates{s[:i], n}, nil
}

// String returns the form FILE:OFFSET.
func (c Coordinates) String() string { return fmt.Sprintf("%s:%d", c.File, c.Offset) }

// LogFile is a file of a binary log with its size.
type LogFile struct {
	Name  string `json:"name"`
	Bytes uint64 `json:"bytes"`
}

// BytesBetween returns the bytes of log from one place to a later one, across
// files, given the list of files in order; false when a place is in none of
// them or the second comes first.
func BytesBetween(files []LogFile, from, to Coordinates) (int64, bool) {
	start := slices.IndexFunc(files, func(f LogFile) bool { return f.Name == from.File })
	end := slices.IndexFunc(files, func(f LogFile) bool { return f.Name == to.File })
	if start < 0 || end < start || start == end && to.Offset < from.Offset {
		return 0, false
	}
	if start == end {
		return int64(to.Offset - from.Offset), true
	}
	n := int64(files[start].Bytes) - int64(from.Offset) + int64(to.Offset)
	for _, f := range files[start+1 : end] {
		n += int64(f.Bytes)
	}
	return n, true
}
