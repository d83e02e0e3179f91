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

// rotated is the name that a log file's predecessor has (logrotate).
const rotated = ".1"

// ReadOn reads the whole lines that a log file has gained since a place, and moves that. Of a
// file that was rotated the rest is read first, and what has its name now from the beginning.
// Where nothing was read before, only what comes from now on counts, and so it is with each nil.
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
		d.readRest(path+rotated, *place, fi, each)
		*place = LogPlace{number, 0}
	}
	readFrom(f, fi.Size(), place, each)
	return nil
}

// readRest reads what a log file gained after the last look and before it was rotated: moved
// away, or copied and emptied. Which of the two it was is told by the file's number.
func (d *Data) readRest(path string, place LogPlace, now os.FileInfo, each func(line string)) {
	f, err := d.OpenLog(path, os.O_RDONLY)
	if err != nil {
		return // it is kept under another name, or not at all
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return
	}
	moved := fi.Sys().(*syscall.Stat_t).Ino == place.File
	emptied := now.Sys().(*syscall.Stat_t).Ino == place.File
	for at := int64(-1); (moved || emptied) && at < place.At && place.At < fi.Size(); {
		at = place.At
		readFrom(f, fi.Size(), &place, each)
	}
}

func readFrom(f *os.File, size int64, place *LogPlace, each func(line string)) {
	b := make([]byte, min(readOnMost, size-place.At))
	n, _ := f.ReadAt(b, place.At)
	end := bytes.LastIndexByte(b[:n], '\n') + 1
	if end == 0 && n == readOnMost {
		end = n // a line without an end
	}
	for line := range bytes.Lines(b[:end]) {
		each(string(line))
	}
	place.At += int64(end)
}
