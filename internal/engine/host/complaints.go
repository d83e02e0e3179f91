package host

import (
	"fmt"
	"os"
	"strings"

	"crosstwin/internal/core/tail"
)

// complaintBytes is how far back from its end an error log is read.
const complaintBytes = 256 << 10

// Complaints reads the end of an error log, newest line first; read tells which
// lines are complaints. A log that is not there has none.
func (d *Data) Complaints(file string, n int, read func(line string) (tail.Complaint, bool)) ([]tail.Complaint,
	error) {
	out := []tail.Complaint{}
	f, err := d.OpenLog(file, os.O_RDONLY)
	if os.IsNotExist(err) {
		return out, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the error log: %w", err)
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return nil, err
	}
	at := max(0, fi.Size()-complaintBytes)
	b := make([]byte, fi.Size()-at)
	k, _ := f.ReadAt(b, at)
	lines := strings.Split(string(b[:k]), "\n")
	for i := len(lines) - 1; i >= 0 && len(out) < n; i-- {
		if c, ok := read(lines[i]); ok {
			out = append(out, c)
		}
	}
	return out, nil
}
