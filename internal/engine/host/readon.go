package host

import (
	"bytes"
	"os"
	"syscall"
)

// LogPlace is how far a log file was read.
type LogPlace struct {
	File uint64 `json:"file"` // its number in its file system: another one is another file
	At   int64  `json:"at"`
}

// readOnMost bounds what one call reads; the next goes on.
const readOnMost = 1 << 20

// ReadOn reads the whole lines that a log file has gained since a place, and moves that. A file
// that took its name's place is read from its beginning; where nothing was read before, only
// what comes from now on counts, and so it is with each nil.
func (d *Data) ReadOn(path string, place *LogPlace, each func(line string)) error {
	f, err := d.OpenLog(path, os.O_RDONLY)
	if err != nil {
		return err
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return err
	}
	number := fi.Sys().(*syscall.Stat_t).Ino
	switch {
	case each == nil || *place == LogPlace{}:
		*place = LogPlace{number, fi.Size()}
		return nil
	case place.File != number || fi.Size() < place.At:
		*place = LogPlace{number, 0}
	}
	b := make([]byte, min(readOnMost, fi.Size()-place.At))
	n, _ := f.ReadAt(b, place.At)
	end := bytes.LastIndexByte(b[:n], '\n') + 1
	if end == 0 && n == readOnMost {
		end = n // a line without an end
	}
	for line := range bytes.Lines(b[:end]) {
		each(string(line))
	}
	place.At += int64(end)
	return nil
}
