package pgtool

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/position"
)

// Relation names a relation the way log records do: by tablespace, database
// and file number, not by name.
type Relation struct {
	Space    uint32 `json:"space"`
	Database uint32 `json:"database"`
	File     uint32 `json:"file"`
}

// String returns the form that pg_waldump prints.
func (r Relation) String() string { return fmt.Sprintf("%d/%d/%d", r.Space, r.Database, r.File) }

// Catalog reports whether the file number belongs to a system catalog that was
// made by initdb (below FirstNormalObjectId, 16384). The two that hold large objects
// are data like any table.
func (r Relation) Catalog() bool {
	return r.File < 16384 && r.File != largeObjects && r.File != largeObjectOwners
}

// pg_largeobject and pg_largeobject_metadata, as initdb numbers their files.
const largeObjects, largeObjectOwners = 2613, 2995

// BlockRef is one page that a record touches.
type BlockRef struct {
	Relation Relation
	Block    uint32
}

// Record is one log record as pg_waldump prints it.
type Record struct {
	Manager     string // resource manager, such as Heap or Transaction
	Length      int    // bytes of the whole record
	Transaction uint32
	At          position.LSN
	Description string
	Blocks      []BlockRef
}

// End returns the position after the record, for log files of segment bytes. A record
// that ends its log file early ends where the file does.
func (r Record) End(segment uint64) position.LSN {
	end := position.RecordEnd(r.At, uint32(r.Length), segment)
	if r.Manager == "XLOG" && strings.HasPrefix(r.Description, "SWITCH") {
		file := position.LSN(segment)
		end = (end + file - 1) / file * file
	}
	return end
}

var (
	blockRef = regexp.MustCompile(`blkref #\d+: rel (\d+)/(\d+)/(\d+) (?:fork \S+ )?blk (\d+)`)
	endLine  = regexp.MustCompile(
		`(?:record length|resource manager ID|xl_prev|prev-link|magic number|info bits|pageaddr|record offset|checksum|` +
			`contrecord|page).*? (?:at|in log segment|in) ([0-9A-Fa-f]+/[0-9A-Fa-f]+)`)
	afterLine  = regexp.MustCompile(`could not find a valid record after ([0-9A-Fa-f]+/[0-9A-Fa-f]+)`)
	commitTime = regexp.MustCompile(`^(?:COMMIT|ABORT)(?: PREPARED \S+)? (\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)?) UTC`)
	subxacts   = regexp.MustCompile(`subxacts: ([\d ]+)`)
	newTuple   = regexp.MustCompile(`new off (\d+)`)
	oldTuple   = regexp.MustCompile(`off (\d+)`)
	tupleCount = regexp.MustCompile(`^MULTI_INSERT\S* (\d+) tuples`)
)

// ParseRecord reads one line of pg_waldump's output (run with TZ=UTC). ok is
// false for lines that are not records.
func ParseRecord(line string) (Record, bool) {
	// Cut by hand: a log has millions of lines, and a pattern takes ten times as long.
	line, ok := strings.CutPrefix(line, "rmgr: ")
	manager, line, ok1 := strings.Cut(line, " ")
	_, line, ok2 := strings.Cut(line, "len (rec/tot):")
	_, line, ok3 := strings.Cut(line, "/")
	size, line, ok4 := strings.Cut(line, ", tx:")
	number, line, ok5 := strings.Cut(line, ", lsn: ")
	place, line, ok6 := strings.Cut(line, ", prev ")
	_, text, ok7 := strings.Cut(line, " desc: ")
	if !(ok && ok1 && ok2 && ok3 && ok4 && ok5 && ok6 && ok7) || manager == "" {
		return Record{}, false
	}
	length, err1 := strconv.Atoi(strings.TrimSpace(size))
	tx, err2 := strconv.ParseUint(strings.TrimSpace(number), 10, 32)
	at, err3 := position.ParseLSN(place)
	if err1 != nil || err2 != nil || err3 != nil || length < 0 {
		return Record{}, false
	}
	r := Record{Manager: manager, Length: length, Transaction: uint32(tx), At: at, Description: text}
	if i := strings.Index(text, ", blkref #"); i >= 0 {
		r.Description = text[:i]
		for _, b := range blockRef.FindAllStringSubmatch(text[i:], -1) {
			var n [4]uint32
			for j := range n {
				v, err := strconv.ParseUint(b[j+1], 10, 32)
				if err != nil {
					return Record{}, false
				}
				n[j] = uint32(v)
			}
			r.Blocks = append(r.Blocks, BlockRef{Relation{n[0], n[1], n[2]}, n[3]})
		}
	}
	return r, true
}

// ParseEnd reads pg_waldump's closing message for the position at which the
// log ends: the first place without a valid record.
func ParseEnd(stderr string) (position.LSN, bool) {
	for _, re := range []*regexp.Regexp{endLine, afterLine} {
		if m := re.FindAllStringSubmatch(stderr, -1); m != nil {
			l, err := position.ParseLSN(m[len(m)-1][1])
			return l, err == nil
		}
	}
	return 0, false
}

// Fingerprint returns the text that identifies the first record of a timeline:
// its kind and time of writing, which two promotions do not share (measured:
// two replicas promoted from one point differ there and nowhere else).
// An empty text means that the record is of another kind.
func (r Record) Fingerprint() string {
	if r.Manager != "XLOG" || !(strings.HasPrefix(r.Description, "END_OF_RECOVERY") ||
		strings.HasPrefix(r.Description, "CHECKPOINT_SHUTDOWN")) {
		return ""
	}
	return r.Description
}

// Action is what a record did to rows of a table.
type Action struct {
	Kind  string // insert, update, delete
	Rows  int
	Where BlockRef
	// Offset is the line pointer of the row's new version in Where's block,
	// or of the removed row; 0 when one record wrote several rows.
	Offset int
}

// Kind names what the record is: its resource manager and its first word.
func (r Record) Kind() string {
	word, _, _ := strings.Cut(r.Description, " ")
	return r.Manager + " " + strings.TrimSuffix(word, ":")
}

// RowAction tells what a heap record did, if it changed rows.
func (r Record) RowAction() (Action, bool) {
	if len(r.Blocks) == 0 || (r.Manager != "Heap" && r.Manager != "Heap2") {
		return Action{}, false
	}
	d := r.Description
	a := Action{Rows: 1, Where: r.Blocks[0]}
	offset := oldTuple
	switch {
	case strings.HasPrefix(d, "MULTI_INSERT"):
		a.Kind = "insert"
		if m := tupleCount.FindStringSubmatch(d); m != nil {
			a.Rows, _ = strconv.Atoi(m[1])
		}
		return a, true
	case strings.HasPrefix(d, "INSERT"):
		a.Kind = "insert"
	case strings.HasPrefix(d, "UPDATE"), strings.HasPrefix(d, "HOT_UPDATE"):
		a.Kind, offset = "update", newTuple
	case strings.HasPrefix(d, "DELETE"):
		a.Kind = "delete"
	default:
		return Action{}, false
	}
	if m := offset.FindStringSubmatch(d); m != nil {
		a.Offset, _ = strconv.Atoi(m[1])
	}
	return a, true
}

// Ending is a transaction's last record.
type Ending struct {
	Committed bool
	At        time.Time
	Children  []uint32 // subtransactions that end with it
}

// TransactionEnd tells how a transaction ended, if this record ends one.
func (r Record) TransactionEnd() (Ending, bool) {
	if r.Manager != "Transaction" {
		return Ending{}, false
	}
	m := commitTime.FindStringSubmatch(r.Description)
	if m == nil {
		return Ending{}, false
	}
	at, err := time.Parse("2006-01-02 15:04:05.999999", m[1])
	if err != nil {
		return Ending{}, false
	}
	e := Ending{Committed: strings.HasPrefix(r.Description, "COMMIT"), At: at.UTC()}
	if s := subxacts.FindStringSubmatch(r.Description); s != nil {
		for _, f := range strings.Fields(s[1]) {
			if n, err := strconv.ParseUint(f, 10, 32); err == nil {
				e.Children = append(e.Children, uint32(n))
			}
		}
	}
	return e, true
}

// Message returns the prefix and text of a logical message record.
func (r Record) Message() (prefix, text string, ok bool) {
	if r.Manager != "LogicalMessage" {
		return "", "", false
	}
	_, rest, ok := strings.Cut(r.Description, `prefix "`)
	if !ok {
		return "", "", false
	}
	prefix, rest, ok = strings.Cut(rest, `"; payload (`)
	if !ok {
		return "", "", false
	}
	_, rest, ok = strings.Cut(rest, "): ")
	if !ok {
		return "", "", false
	}
	var b strings.Builder
	for _, f := range strings.Fields(rest) {
		n, err := strconv.ParseUint(f, 16, 8)
		if err != nil {
			return "", "", false
		}
		b.WriteByte(byte(n))
	}
	return prefix, b.String(), true
}
