package pgtool

import (
	"bytes"
	"encoding/binary"
	"sort"
)

// Translation looks a message up in a catalog of translations as gettext compiles it (a .mo
// file: magic number, revision, number of messages, where the tables of originals and of
// translations begin; each entry a length and a place). Originals are sorted. False where the
// catalog does not have it, or is none.
func Translation(catalog []byte, message string) (string, bool) {
	if len(catalog) < 20 {
		return "", false
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch magic := order.Uint32(catalog); magic {
	case 0x950412de:
	case 0xde120495:
		order = binary.BigEndian
	default:
		return "", false
	}
	n, from, to := int(order.Uint32(catalog[8:])), order.Uint32(catalog[12:]), order.Uint32(catalog[16:])
	if n > len(catalog)/16 { // each has an entry in both tables
		return "", false
	}
	text := func(table uint32, i int) []byte {
		at := int(table) + 8*i
		if at < 0 || at > len(catalog)-8 {
			return nil
		}
		size, place := int(order.Uint32(catalog[at:])), int(order.Uint32(catalog[at+4:]))
		if size < 0 || place < 0 || size > len(catalog) || place > len(catalog)-size {
			return nil
		}
		return catalog[place : place+size]
	}
	i := sort.Search(n, func(i int) bool { return bytes.Compare(text(from, i), []byte(message)) >= 0 })
	if i == n || string(text(from, i)) != message {
		return "", false
	}
	out := string(text(to, i))
	return out, out != ""
}
