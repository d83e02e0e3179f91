package binlog

import (
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Value is one column's value in the server's own text form. Binary values and
// strings are their bytes, in the column's character set.
type Value struct {
	Null   bool
	Absent bool // not part of the row image
	Number bool // written without quotes
	Text   string
}

// SQL returns the value as it stands in a statement. Bytes that are not plain
// ASCII are written in hexadecimal, so that no character set can change them.
func (v Value) SQL() string {
	switch {
	case v.Absent:
		return "DEFAULT"
	case v.Null:
		return "NULL"
	case v.Number:
		return v.Text
	}
	for i := range len(v.Text) {
		if c := v.Text[i]; c < 0x20 || c > 0x7e || c == '\'' || c == '\\' {
			return "x'" + hex.EncodeToString([]byte(v.Text)) + "'"
		}
	}
	return "'" + v.Text + "'"
}

func number(s string) Value { return Value{Number: true, Text: s} }

// integer reads a whole number of n bytes.
func (col Column) integer(c *cursor, n int) Value {
	u := c.little(n)
	if col.Unsigned {
		return number(strconv.FormatUint(u, 10))
	}
	shift := 64 - 8*n
	return number(strconv.FormatInt(int64(u<<shift)>>shift, 10))
}

// value reads one value that is not NULL.
func (col Column) value(c *cursor) Value {
	switch col.Type {
	case typeTiny:
		return col.integer(c, 1)
	case typeShort:
		return col.integer(c, 2)
	case typeInt24:
		return col.integer(c, 3)
	case typeLong:
		return col.integer(c, 4)
	case typeLongLong:
		return col.integer(c, 8)
	case typeFloat:
		return number(strconv.FormatFloat(float64(math.Float32frombits(uint32(c.little(4)))), 'g', -1, 32))
	case typeDouble:
		return number(strconv.FormatFloat(math.Float64frombits(c.little(8)), 'g', -1, 64))
	case typeNewDecimal:
		return number(readDecimal(c, int(col.Meta>>8), int(col.Meta&0xff)))
	case typeYear:
		y := c.little(1)
		if y > 0 {
			y += 1900
		}
		return number(fmt.Sprintf("%04d", y))
	case typeBit:
		bits := int(col.Meta>>8)*8 + int(col.Meta&0xff)
		return Value{Text: fmt.Sprintf("%0*b", max(1, bits), c.big((bits+7)/8))}
	case typeEnum, typeSet:
		return col.choice(c)
	}
	if v, ok := col.temporal(c); ok {
		return v
	}
	return col.bytes(c)
}

func (col Column) bytes(c *cursor) Value {
	prefix := 1
	switch col.Type {
	case typeVarchar, typeVarcharZ, typeString, typeVarString:
		if col.Meta > 255 {
			prefix = 2
		}
	case typeBlob, typeTinyBlob, typeMedBlob, typeLongBlob, typeGeometry, typeBlobZ:
		prefix = int(col.Meta)
	case typeNull:
		return Value{Null: true}
	default:
		c.fail(fmt.Sprintf("column type %d is not known", col.Type))
		return Value{}
	}
	b := c.take(int(min(c.little(min(prefix, 4)), 1<<32)))
	if col.Type == typeVarcharZ || col.Type == typeBlobZ {
		plain, err := inflateColumn(b)
		if err != nil {
			c.fail("compressed column: " + err.Error())
		}
		b = plain
	}
	if col.Type == typeString && col.Binary && len(b) < int(col.Meta) {
		// The log leaves out the zero bytes at the end of a fixed width
		// (BINARY, UUID, INET6). Without metadata that cannot be known.
		b = append(append([]byte(nil), b...), make([]byte, int(col.Meta)-len(b))...)
	}
	return Value{Text: string(b)}
}

// choice reads an ENUM or SET: its text where the log describes it, else its
// number.
func (col Column) choice(c *cursor) Value {
	n := c.little(int(min(col.Meta&0xff, 8)))
	if len(col.Values) == 0 {
		return number(strconv.FormatUint(n, 10))
	}
	if col.Type == typeEnum {
		if n == 0 || n > uint64(len(col.Values)) {
			return Value{}
		}
		return Value{Text: col.Values[n-1]}
	}
	var parts []string
	for i, s := range col.Values {
		if i < 64 && n&(1<<i) != 0 {
			parts = append(parts, s)
		}
	}
	return Value{Text: strings.Join(parts, ",")}
}

// temporal reads dates and times. Columns with fractions made under
// mysql56_temporal_format=OFF carry no sign of it in the log and cannot be
// read: their rows fail by their length.
func (col Column) temporal(c *cursor) (Value, bool) {
	switch col.Type {
	case typeDate, typeNewDate:
		n := c.little(3)
		return Value{Text: fmt.Sprintf("%04d-%02d-%02d", n>>9, n>>5&15, n&31)}, true
	case typeTime:
		n := int64(c.little(3)<<40) >> 40
		sign := ""
		if n < 0 {
			sign, n = "-", -n
		}
		return Value{Text: fmt.Sprintf("%s%02d:%02d:%02d", sign, n/10000, n/100%100, n%100)}, true
	case typeDatetime:
		n := c.little(8)
		return Value{Text: fmt.Sprintf("%04d-%02d-%02d %02d:%02d:%02d", n/1e10, n/1e8%100, n/1e6%100, n/1e4%100, n/100%100,
			n%100)}, true
	case typeTimestamp:
		return Value{Text: moment(c.little(4), "")}, true
	case typeTimestamp2:
		seconds := c.big(4)
		return Value{Text: moment(seconds, fraction(c, int(col.Meta)))}, true
	case typeDatetime2:
		n := c.big(5) - 0x8000000000
		ym, rest := n>>22&0x1ffff, n&0x3fffff
		return Value{Text: fmt.Sprintf("%04d-%02d-%02d %02d:%02d:%02d", ym/13, ym%13, rest>>17, rest>>12&31, rest>>6&63,
			rest&63) + fraction(c, int(col.Meta))}, true
	case typeTime2:
		return Value{Text: readTime(c, int(col.Meta))}, true
	}
	return Value{}, false
}

// moment returns a point in time in UTC; zero is the server's zero timestamp.
func moment(seconds uint64, fraction string) string {
	if seconds == 0 && strings.Trim(fraction, ".0") == "" {
		return "0000-00-00 00:00:00" + fraction
	}
	return time.Unix(int64(seconds), 0).UTC().Format("2006-01-02 15:04:05") + fraction
}

// fraction reads the digits behind the seconds: two of them a byte.
func fraction(c *cursor, digits int) string {
	if digits == 0 {
		return ""
	}
	if digits > 6 {
		c.fail("more than 6 digits of a second")
		return ""
	}
	n := (digits + 1) / 2
	return "." + fmt.Sprintf("%0*d", 2*n, c.big(n))[:digits]
}

// readTime reads a TIME of the newer format: sign, hours, minutes, seconds and
// fraction in one number, offset so that bytes sort as times do.
func readTime(c *cursor, digits int) string {
	if digits > 6 {
		c.fail("more than 6 digits of a second")
		return ""
	}
	n := (digits + 1) / 2
	v := int64(c.big(3+n)) - 0x800000<<(8*n)
	sign := ""
	if v < 0 {
		sign, v = "-", -v
	}
	whole, part := v>>(8*n), v&(1<<(8*n)-1)
	out := fmt.Sprintf("%s%02d:%02d:%02d", sign, whole>>12&0x3ff, whole>>6&63, whole&63)
	if digits > 0 {
		out += "." + fmt.Sprintf("%0*d", 2*n, part)[:digits]
	}
	return out
}

// decimalBytes is how many bytes a number of 0 to 9 digits takes.
var decimalBytes = [10]int{0, 1, 1, 2, 2, 3, 3, 4, 4, 4}

// readDecimal reads a DECIMAL: groups of nine digits in four bytes, the most
// significant first; the sign is the inverted first bit, and a negative
// number's bits are inverted throughout.
func readDecimal(c *cursor, precision, scale int) string {
	whole := precision - scale
	if precision < 1 || precision > 65 || scale < 0 || whole < 0 {
		c.fail(fmt.Sprintf("DECIMAL(%d,%d) cannot be", precision, scale))
		return ""
	}
	size := whole/9*4 + decimalBytes[whole%9] + scale/9*4 + decimalBytes[scale%9]
	b := append([]byte(nil), c.take(size)...)
	if c.err != nil {
		return ""
	}
	negative := b[0]&0x80 == 0
	b[0] ^= 0x80
	if negative {
		for i := range b {
			b[i] = ^b[i]
		}
	}
	d := &cursor{b: b}
	digits := groupDigits(d, whole%9) // an incomplete group stands first
	for range whole / 9 {
		digits += groupDigits(d, 9)
	}
	if digits = strings.TrimLeft(digits, "0"); digits == "" {
		digits = "0"
	}
	if scale > 0 {
		digits += "."
		for range scale / 9 {
			digits += groupDigits(d, 9)
		}
		digits += groupDigits(d, scale%9) // and last behind the point
	}
	if negative {
		digits = "-" + digits
	}
	return digits
}

func groupDigits(c *cursor, n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%0*d", n, c.big(decimalBytes[n]))
}
