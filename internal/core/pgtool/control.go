// Package pgtool reads what PostgreSQL's own utilities print and the settings
// files the server keeps: control data, log records, postgresql.auto.conf.
// Text in, values out; running the utilities is the engine's work.
//
// The shapes were taken from PostgreSQL 15. A field that is missing is an
// error here, never a guess: the numbers decide whether data is thrown away.
package pgtool

import (
	"fmt"
	"strconv"
	"strings"

	"crosstwin/internal/core/position"
)

// Control is what pg_controldata says of a data directory, whether or not its
// server runs.
type Control struct {
	System         string       `json:"system"`
	State          string       `json:"state"`
	Checkpoint     position.LSN `json:"checkpoint"`
	Redo           position.LSN `json:"redo"`
	Timeline       uint32       `json:"timeline"`
	MinRecoveryEnd position.LSN `json:"min_recovery_end"`
	MinRecoveryTLI uint32       `json:"min_recovery_timeline"`
	SegmentBytes   uint64       `json:"segment_bytes"`
	Checksums      bool         `json:"checksums"`
	LogHints       bool         `json:"log_hints"`
}

// States of a data directory as the server names them.
const (
	StateShutDown           = "shut down"
	StateShutDownInRecovery = "shut down in recovery"
	StateInProduction       = "in production"
	StateInRecovery         = "in archive recovery"
)

// Clean reports whether the server stopped cleanly: everything it
// acknowledged stands before the checkpoint that the control data names.
func (c Control) Clean() bool { return c.State == StateShutDown || c.State == StateShutDownInRecovery }

// ParseControl reads the output of pg_controldata in the C locale.
func ParseControl(text string) (Control, error) {
	fields := map[string]string{}
	for _, line := range strings.Split(text, "\n") {
		if k, v, ok := strings.Cut(line, ":"); ok {
			fields[strings.TrimSpace(k)] = strings.TrimSpace(v)
		}
	}
	var c Control
	r := fieldReader{fields: fields}
	c.System = r.text("Database system identifier")
	c.State = r.text("Database cluster state")
	c.Checkpoint = r.lsn("Latest checkpoint location")
	c.Redo = r.lsn("Latest checkpoint's REDO location")
	c.Timeline = uint32(r.number("Latest checkpoint's TimeLineID", 32))
	c.MinRecoveryEnd = r.lsn("Minimum recovery ending location")
	c.MinRecoveryTLI = uint32(r.number("Min recovery ending loc's timeline", 32))
	c.SegmentBytes = r.number("Bytes per WAL segment", 64)
	c.Checksums = r.number("Data page checksum version", 32) != 0
	c.LogHints = r.text("wal_log_hints setting") == "on"
	if r.err != nil {
		return Control{}, r.err
	}
	return c, nil
}

type fieldReader struct {
	fields map[string]string
	err    error
}

func (r *fieldReader) text(name string) string {
	v := r.fields[name]
	if v == "" && r.err == nil {
		r.err = fmt.Errorf("control data: no field %q", name)
	}
	return v
}

func (r *fieldReader) lsn(name string) position.LSN {
	v := r.text(name)
	if r.err != nil {
		return 0
	}
	l, err := position.ParseLSN(v)
	if err != nil {
		r.err = fmt.Errorf("control data, %s: %w", name, err)
	}
	return l
}

func (r *fieldReader) number(name string, bits int) uint64 {
	v := r.text(name)
	if r.err != nil {
		return 0
	}
	n, err := strconv.ParseUint(v, 10, bits)
	if err != nil {
		r.err = fmt.Errorf("control data, %s: %q is not a number", name, v)
	}
	return n
}
