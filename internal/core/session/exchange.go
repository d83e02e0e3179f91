package session

import "encoding/binary"

// The commands of MariaDB's protocol that a gate has to tell apart (documentation, "Client/Server
// Protocol").
const (
	ComQuit         = 0x01
	ComInitDB       = 0x02
	ComQuery        = 0x03
	ComFieldList    = 0x04
	ComStatistics   = 0x09
	ComProcessKill  = 0x0c
	ComPing         = 0x0e
	ComChangeUser   = 0x11
	ComBinlogDump   = 0x12
	ComTableDump    = 0x13
	ComRegister     = 0x15
	ComPrepare      = 0x16
	ComExecute      = 0x17
	ComLongData     = 0x18
	ComCloseStmt    = 0x19
	ComResetStmt    = 0x1a
	ComFetch        = 0x1c
	ComReset        = 0x1f
	ComBulkExecute  = 0xfa
	flagTransaction = 0x0001
	flagMore        = 0x0008
	flagCursor      = 0x0040
)

// Answered is what a packet of the server's ends.
type Answered int

// More packets come; all is answered; the server waits for the file that LOAD DATA LOCAL names.
const (
	More Answered = iota
	Done
	WantsFile
)

type stage int

const (
	first   stage = iota // of a result
	columns              // their descriptions
	columnsEnd
	rows
	counted // a number of packets without a meaning here
	single
	ended
)

// Exchange follows the answer to one command of MariaDB's protocol.
type Exchange struct {
	command byte
	// noEnds: descriptions of columns are not followed by a packet that ends them, and rows end
	// with OK (the client uses CLIENT_DEPRECATE_EOF).
	noEnds bool
	stage  stage
	left   uint64

	// InTransaction is what the server said last; Known is false after an error, which does not
	// say it.
	InTransaction, Known bool
	Failed               bool   // it was answered with an error
	Code                 uint16 // of it
	Cursor               bool   // it left a cursor open
	// Statement is the server's number of a statement that was prepared, Parameters and Columns
	// what it has.
	Statement           uint32
	Parameters, Columns uint16
	// Noted is for whoever follows: the statement was.
	Noted bool
}

// Begin begins to follow a command. Some are not answered.
func Begin(command byte, noEnds bool) *Exchange {
	x := &Exchange{command: command, noEnds: noEnds}
	switch command {
	case ComQuit, ComLongData, ComCloseStmt:
		x.stage = ended
	case ComFetch, ComFieldList:
		x.stage = rows
	case ComStatistics:
		x.stage = single
	}
	return x
}

// Answered reports whether nothing more comes.
func (x *Exchange) Answered() bool { return x.stage == ended }

// InRows reports whether the next packet is a row, or ends them.
func (x *Exchange) InRows() bool { return x.stage == rows }

// Packet takes the beginning of a packet of the server's, of at least 32 bytes where it has as
// many, and its whole length.
func (x *Exchange) Packet(head []byte, size int) Answered {
	if size == 0 || len(head) == 0 {
		return x.empty()
	}
	switch x.stage {
	case first:
		return x.begins(head, size)
	case columns:
		if x.left--; x.left == 0 {
			if x.stage = columnsEnd; x.noEnds {
				x.stage = rows
			}
		}
	case columnsEnd:
		if head[0] == 0xff {
			return x.fails(head)
		}
		flags := eofFlags(head)
		x.says(flags)
		if x.stage = rows; flags&flagCursor != 0 {
			x.Cursor = true
			return x.end()
		}
	case rows:
		switch {
		case head[0] == 0xff:
			return x.fails(head)
		case head[0] == 0xfe && (size < 9 || x.noEnds && size < 0xffffff):
			flags := eofFlags(head)
			if x.noEnds && size >= 7 {
				flags = okFlags(head)
			}
			return x.result(flags)
		}
	case counted:
		if x.left--; x.left == 0 {
			return x.end()
		}
	case single:
		return x.end()
	}
	return More
}

// empty is a packet without content: a server sends none but within rows.
func (x *Exchange) empty() Answered {
	if x.stage == rows || x.stage == columns {
		return More
	}
	return x.end()
}

func (x *Exchange) begins(head []byte, size int) Answered {
	switch {
	case head[0] == 0xff:
		return x.fails(head)
	case x.command == ComPrepare && head[0] == 0 && size >= 9 && len(head) >= 9:
		x.Statement = binary.LittleEndian.Uint32(head[1:])
		x.Columns, x.Parameters = binary.LittleEndian.Uint16(head[5:]), binary.LittleEndian.Uint16(head[7:])
		for _, n := range []uint16{x.Columns, x.Parameters} {
			if n > 0 {
				x.left += uint64(n)
				if !x.noEnds {
					x.left++
				}
			}
		}
		if x.stage = counted; x.left == 0 {
			return x.end()
		}
		return More
	case head[0] == 0:
		return x.result(okFlags(head))
	case head[0] == 0xfb && x.command == ComQuery:
		return WantsFile
	case head[0] == 0xfe && size < 9:
		return x.result(eofFlags(head))
	}
	n, _, ok := lengthEncoded(head)
	if !ok || n == 0 {
		return x.end()
	}
	x.left, x.stage = n, columns
	return More
}

// result takes the end of one result; another one may follow.
func (x *Exchange) result(flags uint16) Answered {
	x.says(flags)
	x.Cursor = x.Cursor || flags&flagCursor != 0
	if flags&flagMore != 0 {
		x.stage = first
		return More
	}
	return x.end()
}

func (x *Exchange) says(flags uint16) { x.InTransaction, x.Known = flags&flagTransaction != 0, true }

func (x *Exchange) fails(head []byte) Answered {
	x.Failed, x.Known = true, false
	if len(head) >= 3 {
		x.Code = binary.LittleEndian.Uint16(head[1:])
	}
	return x.end()
}

func (x *Exchange) end() Answered {
	x.stage = ended
	return Done
}

// okFlags are the server's flags in an OK packet.
func okFlags(head []byte) uint16 {
	rest := head[1:]
	for range 2 { // rows that were changed, and the last number that was given
		_, n, ok := lengthEncoded(rest)
		if !ok {
			return 0
		}
		rest = rest[n:]
	}
	if len(rest) < 2 {
		return 0
	}
	return binary.LittleEndian.Uint16(rest)
}

// eofFlags are those in an EOF packet.
func eofFlags(head []byte) uint16 {
	if len(head) < 5 {
		return 0
	}
	return binary.LittleEndian.Uint16(head[3:])
}

// lengthEncoded reads an integer of the protocol's own form, and says how long it is.
func lengthEncoded(b []byte) (n uint64, size int, ok bool) {
	if len(b) == 0 {
		return 0, 0, false
	}
	switch {
	case b[0] < 0xfb:
		return uint64(b[0]), 1, true
	case b[0] == 0xfc && len(b) >= 3:
		return uint64(binary.LittleEndian.Uint16(b[1:])), 3, true
	case b[0] == 0xfd && len(b) >= 4:
		return uint64(b[1]) | uint64(b[2])<<8 | uint64(b[3])<<16, 4, true
	case b[0] == 0xfe && len(b) >= 9:
		return binary.LittleEndian.Uint64(b[1:]), 9, true
	}
	return 0, 0, false
}

// LengthEncoded is lengthEncoded, for those who read packets whole.
func LengthEncoded(b []byte) (n uint64, size int, ok bool) { return lengthEncoded(b) }
