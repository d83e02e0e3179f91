package host

import (
	"os"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/tail"
)

func TestBusy(t *testing.T) {
	var b Busy
	at := time.Now()
	if share := b.Share(os.Getpid(), at); share != 0 {
		t.Errorf("%g at the first look", share)
	}
	used, ok := processorTime(os.Getpid())
	if !ok {
		t.Fatal("this process uses no processor")
	}
	// Half a second of processor time later, told by the counter itself.
	for end := time.Now().Add(20 * time.Second); ; {
		if now, _ := processorTime(os.Getpid()); now >= used+0.5 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("half a second of work takes twenty")
		}
	}
	if share := b.Share(os.Getpid(), at.Add(time.Second)); share < 0.45 || share > 1 {
		t.Errorf("%g of a core for half a second of work in one", share)
	}
	if share := b.Share(1<<22+7, at.Add(2*time.Second)); share != 0 {
		t.Errorf("%g of a process that is not there", share)
	}
}

func TestComplaints(t *testing.T) {
	d := data(t)
	file := d.Path("log")
	read := func(line string) (tail.Complaint, bool) {
		_, text, found := strings.Cut(line, "ERROR: ")
		return tail.Complaint{Level: "error", Text: text}, found
	}
	if list, err := d.Complaints(file, 5, read); err != nil || len(list) != 0 {
		t.Errorf("no log: %v %v", list, err)
	}
	var b strings.Builder
	for range complaintBytes / 10 {
		b.WriteString("INFO: nothing\n")
	}
	b.WriteString("ERROR: first\nINFO: x\nERROR: second\nERROR: third\n")
	if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	list, err := d.Complaints(file, 2, read)
	if err != nil || len(list) != 2 || list[0].Text != "third" || list[1].Text != "second" {
		t.Errorf("%v %v", list, err)
	}
}

func TestFreeAt(t *testing.T) {
	if FreeAt(t.TempDir()).Or(0) <= 0 {
		t.Error("there is no room at all")
	}
	if n, known := FreeAt("/no/such/place").Get(); known {
		t.Errorf("%d bytes are free nowhere", n)
	}
}
