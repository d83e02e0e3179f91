package pgtool

import (
	"fmt"
	"strings"
	"testing"
)

// heap makes a record as pg_waldump prints it: the page of the new version
// first, the old one's after it if it is another.
func heap(tx int, desc string, blocks ...int) Record {
	line := fmt.Sprintf(
		"rmgr: Heap        len (rec/tot):     54/    54, tx:        %d, lsn: 0/01560E68, prev 0/01560E30, desc: %s", tx, desc)
	for i, b := range blocks {
		line += fmt.Sprintf(", blkref #%d: rel 1663/16384/16390 blk %d", i, b)
	}
	r, ok := ParseRecord(line)
	if !ok {
		panic(line)
	}
	return r
}

func TestRowTrail(t *testing.T) {
	for _, c := range []struct {
		name    string
		records []Record
		undo    uint32
		want    string
	}{
		{"insert, then an update of another row to another page", []Record{
			heap(7, "INSERT off 4 flags 0x08", 2),
			heap(8, "UPDATE off 3 xmax 8 flags 0x03 ; new off 9 xmax 0", 5, 1),
		}, 0, "7 insert - (2,4); 8 update (1,3) (5,9)"},
		{"one transaction's steps on one row are one", []Record{
			heap(7, "HOT_UPDATE off 3 xmax 7 flags 0x20 ; new off 4 xmax 0", 1),
			heap(7, "HOT_UPDATE off 4 xmax 7 flags 0x20 ; new off 5 xmax 0", 1),
		}, 0, "7 update (1,3) (1,5)"},
		{"a later transaction changes it again, and a third removes it", []Record{
			heap(7, "HOT_UPDATE off 3 xmax 7 flags 0x20 ; new off 4 xmax 0", 1),
			heap(8, "HOT_UPDATE off 4 xmax 8 flags 0x20 ; new off 5 xmax 0", 1),
			heap(9, "DELETE off 5 flags 0x00 KEYS_UPDATED", 1),
		}, 0, "7 update (1,3) (1,4) again 8; 8 update (1,4) (1,5) made again 9; 9 delete (1,5) - made"},
		{"made and removed by one transaction", []Record{
			heap(7, "INSERT off 4 flags 0x08", 2), heap(7, "DELETE off 4 flags 0x00", 2), heap(7, "DELETE off 1 flags 0x00", 2),
		}, 0, "7 delete (2,1) -"},
		{"changed and removed by one transaction", []Record{
			heap(7, "HOT_UPDATE off 3 xmax 7 flags 0x20 ; new off 4 xmax 0", 1), heap(7, "DELETE off 4 flags 0x00", 1),
		}, 0, "7 delete (1,3) -"},
		{"what was rolled back leaves no trace", []Record{
			heap(7, "HOT_UPDATE off 3 xmax 7 flags 0x20 ; new off 4 xmax 0", 1),
			heap(8, "HOT_UPDATE off 4 xmax 8 flags 0x20 ; new off 5 xmax 0", 1),
		}, 8, "7 update (1,3) (1,4)"},
		{"several rows in one record name no places", []Record{
			heap(7, "MULTI_INSERT 3 tuples flags 0x02", 2),
			heap(8, "DELETE off 1 flags 0x00", 2),
		}, 0, "8 delete (2,1) - bulk"},
		{"only the first are kept", []Record{
			heap(7, "INSERT off 1 flags 0x08", 2), heap(7, "INSERT off 2 flags 0x08", 2), heap(7, "INSERT off 3 flags 0x08", 2),
			heap(7, "INSERT off 4 flags 0x08", 2),
		}, 0, "7 insert - (2,1); 7 insert - (2,2); 7 insert - (2,3)"},
		{"what comes after those still tells who changed them again", []Record{
			heap(7, "INSERT off 1 flags 0x08", 2), heap(7, "INSERT off 2 flags 0x08", 2), heap(7, "INSERT off 3 flags 0x08", 2),
			heap(8, "HOT_UPDATE off 2 xmax 8 flags 0x20 ; new off 4 xmax 0", 2),
			heap(9, "HOT_UPDATE off 4 xmax 9 flags 0x20 ; new off 5 xmax 0", 2),
		}, 0, "7 insert - (2,1); 7 insert - (2,2) again 8; 7 insert - (2,3)"},
	} {
		trail := NewRowTrail(3)
		for _, r := range c.records {
			trail.Add(r)
		}
		if c.undo != 0 {
			trail.Undo(c.undo)
		}
		var got []string
		for _, s := range trail.Steps() {
			line := fmt.Sprintf("%d %s %s %s", s.Transaction, s.Kind, spot(s.Old), spot(s.New))
			for word, is := range map[string]bool{" made": s.Made, " bulk": s.Bulk} {
				if is {
					line += word
				}
			}
			if s.Again != 0 {
				line += fmt.Sprintf(" again %d", s.Again)
			}
			got = append(got, line)
		}
		if s := strings.Join(got, "; "); s != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, s, c.want)
		}
	}
}

func spot(p *Place) string {
	if p == nil {
		return "-"
	}
	return p.Spot()
}

func TestNextTransaction(t *testing.T) {
	for _, c := range []struct {
		bound, want uint32
		tx          int
		desc        string
	}{
		{0, 8, 7, "INSERT off 4 flags 0x08"},
		{9, 9, 7, "INSERT off 4 flags 0x08"},
		{0, 751, 0, "RUNNING_XACTS nextXid 751 latestCompletedXid 749 oldestRunningXid 750; 1 xacts: 750"},
		{3, 745, 0, "CHECKPOINT_ONLINE redo 0/40BB0F8; tli 1; prev tli 1; fpw true; xid 0:745; oid 24576; multi 1"},
		{5, 5, 0, "DELETE off 1 flags 0x00"},
		{4294967290, 4, 3, "INSERT off 4 flags 0x08"}, // the numbers wrapped around
	} {
		if got := heap(c.tx, c.desc, 1).NextTransaction(c.bound); got != c.want {
			t.Errorf("%+v gives %d", c, got)
		}
	}
}
