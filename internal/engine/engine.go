// Package engine is the seam between the agent and a database engine. The
// agent knows terms, jobs and peers; an engine knows how one kind of server is
// observed, started, stopped, promoted and copied. Each engine has a folder.
//
// Engine is what every engine must offer. The smaller interfaces are further
// abilities: the agent asks for them by type assertion and says clearly when
// an engine lacks one.
package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
)

// InputError says that a caller asked for something invalid, such as a
// position that is none.
type InputError struct{ error }

// BadInput makes an InputError.
func BadInput(format string, args ...any) error { return InputError{fmt.Errorf(format, args...)} }

// Unwrap returns the reason.
func (e InputError) Unwrap() error { return e.error }

// Engine is one database server as its agent handles it.
type Engine interface {
	// Observe fills in what the server shows. Thorough adds settings, counts
	// and sizes that are too dear for every second. It never fails: what could
	// not be seen is said in the observation's Problem.
	Observe(ctx context.Context, thorough bool) *observation.Server
	// Start starts the server, "replica" read-only, "primary" for writes, and
	// returns once it answers. A server that runs so already is left alone.
	Start(ctx context.Context, as observation.Role) error
	// Stop has a running primary take no further write cleanly, and
	// returns as soon as that is so: with everything acknowledged in its log and
	// the position in ShutdownAt of the next observation. The process may leave
	// (PostgreSQL) or stay (MariaDB); Start as primary opens it again.
	Stop(ctx context.Context) error
	// Fence makes sure that the server acknowledges no further write, whatever
	// state it is in, and returns when no process of it is left; host.ErrDoomed when those
	// that are left wait for their disk.
	Fence(ctx context.Context, gently bool) error
	// Promote makes a running replica writable.
	Promote(ctx context.Context) error
	// Commits has the server do what every commit has to: put log on its disk. It waits for
	// no replica, and leaves nothing in the data.
	Commits(ctx context.Context) error
	// Close makes the server's data open read-only for whoever starts it next.
	Close() error
	// Closed reports whether there is nothing to close: it is so already, or there
	// is no data.
	Closed() bool
	// Follow sets the upstream; the zero Upstream means nobody.
	Follow(ctx context.Context, a verb.Follow) error
	// Examine finds out what stands in the data, changing nothing.
	Examine(ctx context.Context, a verb.Examine) (*verb.Examination, error)
	// Mark writes a mark into the log; FindMark looks for one.
	Mark(ctx context.Context, id string, term int64, text string) (verb.Marked, error)
	FindMark(ctx context.Context, m verb.Marked) error
}

// Account is what a server follows by: one of its own. Its password stays with its own
// agent: neither the service nor another agent ever sees it.
type Account struct {
	User     string `json:"user"`
	Password string `json:"password"`
}

// Accounter is an engine whose servers follow by accounts.
type Accounter interface {
	// Secret is what a server keeps of a password, and all that others are told of it.
	Secret(password string) (string, error)
	// Grant makes the account of a server, on a primary, or gives it another secret.
	// From is the host that the server is at, as it was seen.
	Grant(ctx context.Context, server, secret, from string) error
	// Prepare sets up the rules that let the accounts of all peers in, and encryption.
	Prepare(ctx context.Context, a verb.Prepare) error
	Probe(ctx context.Context, peer verb.Peer, acc Account) verb.Probed
	// Remember has the server find its accounts where it reads them when it follows;
	// the first is the one to follow by.
	Remember(accounts ...Account) error
}

// Certificate proves a database to the servers that follow it. All in PEM form.
type Certificate struct {
	Pair      []byte // certificate and key
	Authority []byte // of the certificates that the other servers show
}

// Encrypter is an engine whose server takes encrypted connections. What it shows them
// is set up by Prepare, and stands in its observation.
type Encrypter interface {
	// Certify takes a certificate, and gives it to a server that uses one of ours.
	Certify(c Certificate) error
}

// Synchronizer is an engine whose commits can wait for replicas.
type Synchronizer interface {
	// Synchronize sets whom they wait for, and returns once that is proven to be in force. On a
	// server that is not primary it is kept until it is.
	Synchronize(ctx context.Context, a verb.Synchronize) error
	// TimeCommits measures how long small commits take, as a client's do.
	TimeCommits(ctx context.Context) (verb.Timed, error)
}

// Keeper tells what the server keeps of a user's password, for a gate that the user logs in at.
type Keeper interface {
	// Kept returns it in the server's own form. Known is false where there is no such user, or
	// none that may log in.
	Kept(ctx context.Context, user string) (k Kept, err error)
	// Accounts lists those that may log in, but for the agent's own and the server's.
	Accounts(ctx context.Context) ([]route.Account, error)
}

// Kept is that.
type Kept struct {
	Known     bool
	Passwords []string
	// Methods are those of other kinds by which the user may log in, and no gate can.
	Methods []string
}

// Progress is called with what a long verb has done so far.
type Progress func(note string, done, total int64)

// Seeder copies a running server.
type Seeder interface {
	Seed(ctx context.Context, a verb.Seed, p Progress) error
	Verify(ctx context.Context, p Progress) error
}

// Fitter tells, before anything is removed, whether a copy would have its place.
type Fitter interface {
	Fit(ctx context.Context, c verb.Fit) (verb.Fitted, error)
}

// Reserver keeps log for each replica by a reservation.
type Reserver interface {
	Slots(ctx context.Context, a verb.Slots) error
}

// Leaver undoes what Cross Twin made on a server.
type Leaver interface {
	// OpenByDefault is the opposite of Close, for a running primary.
	OpenByDefault() error
	// Drop drops what a names and nobody uses. The answer names each thing, and
	// why it stays.
	Drop(ctx context.Context, a verb.Leave) []verb.Leftover
}

// Checkpointer can write dirty pages out ahead of a stop.
type Checkpointer interface {
	Checkpoint(ctx context.Context) error
}

// Settler brings a crashed server's data to a clean stop, without opening it
// for writes.
type Settler interface {
	Settle(ctx context.Context) error
}

// Rewinder removes a tail.
type Rewinder interface {
	Rewind(ctx context.Context, a verb.Rewind, p Progress) error
}

// Salvager reads and saves a tail.
type Salvager interface {
	Salvage(ctx context.Context, a verb.Salvage, dir string, p Progress) (*tail.Tail, error)
}

// TailReader completes the listing of a tail whose log names places, not values.
type TailReader interface {
	// Names returns table names for the file numbers in a tail's listing.
	Names(ctx context.Context, files []string) (map[string]string, error)
	// RowsAt gives, on the primary, the row versions of before the fork that
	// still lie at the places that a tail's listing names.
	RowsAt(ctx context.Context, a tail.RowsAtArgs) (tail.RowsAt, error)
}

// Comparer sums up the data in a fixed view.
type Comparer interface {
	Hold(ctx context.Context, seconds float64) (verb.Held, error)
	Snapshot(ctx context.Context, a verb.Snapshot) error
	Release(ctx context.Context) error
	Sums(ctx context.Context, p Progress) ([]verb.TableSum, error)
	Rows(ctx context.Context, a verb.Rows) (verb.RowSums, error)
	Forget(ctx context.Context) error
}

// Scheduler is an engine whose server runs statements by its own timetable.
type Scheduler interface {
	// Events lets a primary run them; a replica keeps them switched off.
	Events(ctx context.Context) error
}

// LogKeeper is an engine whose log can be listed, read and cut off.
type LogKeeper interface {
	LogFiles(ctx context.Context) ([]tail.LogFile, error)
	ReadLog(ctx context.Context, a tail.ReadLogArgs) (*tail.LogPage, error)
	Trim(ctx context.Context, a verb.Trim) error
	// Complaints returns the newest warnings and errors of the server's own error
	// log, newest first.
	Complaints(n int) ([]tail.Complaint, error)
}

// Tuner changes settings of a running server, so that they last. The setting
// delay, in seconds, is how long a replica holds writes back on purpose.
type Tuner interface {
	Set(ctx context.Context, a verb.Set) error
}

// Sharer hands something of its server to the agent of a peer. An error in the
// midst of the stream reaches the peer as one.
type Sharer interface {
	Share(ctx context.Context, what string, query url.Values, w io.Writer) error
}

// Peers reaches the agents of the same cluster, over their own encrypted
// connection. The stream ends with an error when the peer's Share did.
type Peers interface {
	Fetch(ctx context.Context, from verb.Peer, what string, query url.Values) (io.ReadCloser, error)
}

// Memory is what an engine wants kept across restarts of its agent. Every
// setter has synced its value to disk when it returns.
type Memory interface {
	Unfinished() string
	SetUnfinished(kind string) error
	Fingerprint(key string) string
	SetFingerprint(key, value string) error
	ForgetFingerprints() error
}

// Recall reads what Keep kept under a key; the zero value where there is nothing.
func Recall[T any](m Memory, key string) (v T) {
	json.Unmarshal([]byte(m.Fingerprint(key)), &v)
	return v
}

// Keep keeps a value in an engine's memory.
func Keep[T any](m Memory, key string, v T) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return m.SetFingerprint(key, string(b))
}
