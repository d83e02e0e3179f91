package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
)

// Cluster is a cluster's record.
type Cluster struct {
	ID int64
	cluster.Cluster
	// Opened: an operation of this service opened the newest term.
	Opened    bool
	CreatedAt time.Time
}

// Server is a server's record.
type Server struct {
	ID        int64
	ClusterID int64
	Cluster   string
	cluster.Member
}

type clusterRow struct {
	ID        int64  `db:"id"`
	Name      string `db:"name"`
	Engine    string `db:"engine"`
	Term      int64  `db:"term"`
	OwnerTerm int64  `db:"owner_term"`
	KinTerm   int64  `db:"kin_term"`
	Owner     string `db:"owner"`
	Policy    string `db:"policy"`
	CreatedAt string `db:"created_at"`
	Promised  string `db:"promised"`
	Promises  int64  `db:"promises"`
	// TermOperation opened the newest term; 0: the service by itself.
	TermOperation int64 `db:"term_operation"`
}

func (r clusterRow) cluster() Cluster {
	c := Cluster{ID: r.ID, CreatedAt: must(r.CreatedAt), Opened: r.TermOperation > 0,
		Cluster: cluster.Cluster{Name: r.Name, Engine: r.Engine, Term: r.Term,
			OwnerTerm: r.OwnerTerm, KinTerm: r.KinTerm, Owner: r.Owner, Policy: cluster.DefaultPolicy(),
			Promises: r.Promises}}
	json.Unmarshal([]byte(r.Policy), &c.Policy)
	json.Unmarshal([]byte(r.Promised), &c.Promised)
	return c
}

// AddCluster makes a cluster.
func (s *Store) AddCluster(ctx context.Context, name, engine string) (Cluster, error) {
	p := cluster.DefaultPolicy()
	p.FencingOpen = true
	policy, err := json.Marshal(p)
	if err != nil {
		return Cluster{}, err
	}
	_, err = s.w.ExecContext(ctx, "insert into clusters (name, engine, policy, created_at) values (?, ?, ?, ?)", name,
		engine, string(policy), now())
	if unique(err) {
		return Cluster{}, fmt.Errorf("cluster %s: %w", name, ErrTaken)
	}
	if err != nil {
		return Cluster{}, err
	}
	return s.Cluster(ctx, name)
}

func unique(err error) bool {
	return err != nil && strings.Contains(err.Error(), "UNIQUE constraint failed")
}

// Cluster returns one cluster by name.
func (s *Store) Cluster(ctx context.Context, name string) (Cluster, error) {
	var r clusterRow
	if err := s.r.GetContext(ctx, &r, "select * from clusters where name = ?", name); err != nil {
		return Cluster{}, notFound(err)
	}
	return r.cluster(), nil
}

// Clusters returns the cluster of a name, if there is one; all clusters by name for an empty
// name.
func (s *Store) Clusters(ctx context.Context, name string) ([]Cluster, error) {
	var rows []clusterRow
	err := s.r.SelectContext(ctx, &rows, "select * from clusters where ? in ('', name) order by name", name)
	if err != nil {
		return nil, err
	}
	out := []Cluster{}
	for _, r := range rows {
		out = append(out, r.cluster())
	}
	return out, nil
}

// SetPolicy changes a cluster's policy.
func (s *Store) SetPolicy(ctx context.Context, name string, p cluster.Policy) error {
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return s.one(ctx, "update clusters set policy = ? where name = ?", string(b), name)
}

// ErrOtherwise says that a record is not as it was when a change of it was decided.
var ErrOtherwise = errors.New("the record was changed meanwhile")

// Promise changes what every acknowledged write rests on, and with a setting how the cluster is
// set. Change gets what is recorded, and may refuse with an error. Invariant: it is on disk
// before a primary is told of a list that is added.
//
// Heard is the newest number of a change that an agent has noted: the next one is above it.
// Unless operates is set it is refused with ErrOtherwise while an operation is under way
// (invariant: what an operation counts on, nobody else adds to).
func (s *Store) Promise(ctx context.Context, name string, setting *synchronous.Setting, heard int64, operates bool,
	change func(now []synchronous.List) ([]synchronous.List, error)) ([]synchronous.List, error) {
	var next []synchronous.List
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		var r clusterRow
		if err := tx.GetContext(ctx, &r, "select * from clusters where name = ?", name); err != nil {
			return notFound(err)
		}
		c := r.cluster()
		var err error
		if !operates {
			var busy int
			if err := tx.GetContext(ctx, &busy, "select count(*) from operations where cluster = ? and state <> ?", name,
				operation.Ended); err != nil {
				return err
			}
			if busy > 0 {
				return ErrOtherwise
			}
		}
		if next, err = change(c.Promised); err != nil {
			return err
		}
		if setting != nil {
			c.Policy.Synchronous = *setting
		}
		policy, err1 := json.Marshal(c.Policy)
		lists, err2 := json.Marshal(append([]synchronous.List{}, next...))
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "update clusters set policy = ?, promised = ?, promises = ? where id = ?",
			string(policy), string(lists), max(c.Promises, heard)+1, r.ID)
		return err
	})
	return next, err
}

// RemoveCluster removes a cluster's records; its operations stay.
func (s *Store) RemoveCluster(ctx context.Context, name string) error {
	return s.one(ctx, "delete from clusters where name = ?", name)
}

// one runs a statement that must change exactly one row.
func (s *Store) one(ctx context.Context, q string, args ...any) error {
	res, err := s.w.ExecContext(ctx, q, args...)
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n != 1 {
		return ErrNotFound
	}
	return nil
}

// OpenTerm counts a cluster's term up to term, for an operation (0: the service
// itself). Terms never go back, and a term belongs to the operation that opened
// it: only that one may open it again, after a restart.
func (s *Store) OpenTerm(ctx context.Context, cluster string, term, operation int64) error {
	err := s.one(ctx,
		"update clusters set term = ?, term_operation = ? where name = ? and (term < ? or term = ? and term_operation = ?)",
		term, operation, cluster, term, term, operation)
	if err == ErrNotFound {
		return fmt.Errorf("term %d of %s is not newer than the newest one, and another operation opened that", term, cluster)
	}
	return err
}

// OpenInPlace opens a term for a primary that goes on writing. It does not while an operation
// is under way, whose plan rests on the term before; one that is added afterwards finds that
// its plan does (ErrMoved).
func (s *Store) OpenInPlace(ctx context.Context, cluster string, term int64) error {
	err := s.one(ctx, "update clusters set term = ?, term_operation = 0 where name = ? and term < ? and not exists "+
		"(select 1 from operations where cluster = ? and state = ?)", term, cluster, term, cluster, operation.Running)
	if err == ErrNotFound {
		return fmt.Errorf("term %d of %s is not opened for the primary in place: an operation is under way, or a newer "+
			"term is open", term, cluster)
	}
	return err
}

// Decide records the owner of a term, once and for all: compare and set. The
// same decision again is no error. It is on disk when this returns, before any
// server is told.
func (s *Store) Decide(ctx context.Context, cluster string, term int64, owner string) error {
	return s.decide(ctx, cluster, term, owner, term)
}

// DecideInPlace records the owner of a term while nothing new is written by it: the same one
// goes on writing, or nobody writes yet. What was proven in the earlier term holds.
func (s *Store) DecideInPlace(ctx context.Context, cluster string, term int64, owner string) error {
	return s.decide(ctx, cluster, term, owner, 0)
}

// decide is Decide; kinTerm 0 stays as it is.
func (s *Store) decide(ctx context.Context, cluster string, term int64, owner string, kinTerm int64) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var c clusterRow
		if err := tx.GetContext(ctx, &c, "select * from clusters where name = ?", cluster); err != nil {
			return notFound(err)
		}
		switch {
		case c.OwnerTerm == term && c.Owner == owner && kinTerm <= c.KinTerm:
			return nil
		case c.OwnerTerm == term && c.Owner == owner: // it writes by now: nothing older is a proof
			_, err := tx.ExecContext(ctx, "update clusters set kin_term = ? where name = ?", kinTerm, cluster)
			return err
		case c.OwnerTerm >= term:
			return fmt.Errorf("term %d of %s is decided already: %s owns term %d", term, cluster, c.Owner, c.OwnerTerm)
		case c.Term != term:
			return fmt.Errorf("term %d of %s is not the newest: %d is", term, cluster, c.Term)
		}
		if kinTerm == 0 {
			kinTerm = c.KinTerm
		}
		_, err := tx.ExecContext(ctx, "update clusters set owner_term = ?, owner = ?, kin_term = ? where name = ?", term,
			owner, cmp.Or(kinTerm, term), cluster)
		return err
	})
}

type serverRow struct {
	ID           int64          `db:"id"`
	ClusterID    int64          `db:"cluster_id"`
	Cluster      string         `db:"cluster"`
	Name         string         `db:"name"`
	Rank         int            `db:"rank"`
	Site         string         `db:"site"`
	Hidden       bool           `db:"hidden"`
	Clients      string         `db:"clients"`
	Agent        string         `db:"agent"`
	Referee      bool           `db:"referee"`
	Gate         bool           `db:"gate"`
	FirstPrimary bool           `db:"first_primary"`
	EnrolledAt   sql.NullString `db:"enrolled_at"`
	CreatedAt    string         `db:"created_at"`
	HeldData     bool           `db:"held_data"`
	Host         string         `db:"host"`
	Port         int            `db:"port"`
}

func (r serverRow) server() Server {
	return Server{ID: r.ID, ClusterID: r.ClusterID, Cluster: r.Cluster,
		Member: cluster.Member{Name: r.Name, Agent: r.Agent, Referee: r.Referee, Gate: r.Gate, FirstPrimary: r.FirstPrimary,
			Placement: cluster.Placement{Rank: r.Rank, Site: r.Site, Hidden: r.Hidden, Clients: r.Clients},
			Enrolled:  r.EnrolledAt.Valid,
			HeldData:  r.HeldData, Host: r.Host, Port: r.Port}}
}

const serverQuery = "select s.*, c.name as cluster from servers s join clusters c on c.id = s.cluster_id "

// AddServer adds a server to a cluster.
func (s *Store) AddServer(ctx context.Context, name string, v cluster.Member) error {
	c, err := s.Cluster(ctx, name)
	if err != nil {
		return err
	}
	_, err = s.w.ExecContext(ctx,
		"insert into servers (cluster_id, name, rank, site, hidden, clients, referee, gate, first_primary, created_at) "+
			"values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", c.ID, v.Name, v.Rank, v.Site, v.Hidden, v.Clients, v.Referee, v.Gate,
		v.FirstPrimary,
		now())
	if unique(err) {
		return fmt.Errorf("server %s of %s: %w", v.Name, name, ErrTaken)
	}
	return err
}

// Server returns one server.
func (s *Store) Server(ctx context.Context, cluster, name string) (Server, error) {
	var r serverRow
	if err := s.r.GetContext(ctx, &r, serverQuery+"where c.name = ? and s.name = ?", cluster, name); err != nil {
		return Server{}, notFound(err)
	}
	return r.server(), nil
}

// Servers returns all servers of a cluster, in the order in which they were added;
// of all clusters for an empty name.
func (s *Store) Servers(ctx context.Context, cluster string) ([]Server, error) {
	var rows []serverRow
	if err := s.r.SelectContext(ctx, &rows, serverQuery+"where ? in ('', c.name) order by s.id", cluster); err != nil {
		return nil, err
	}
	out := []Server{}
	for _, r := range rows {
		out = append(out, r.server())
	}
	return out, nil
}

// SetServer changes the placement of a server.
func (s *Store) SetServer(ctx context.Context, v Server) error {
	return s.one(ctx, "update servers set rank = ?, site = ?, hidden = ?, clients = ? where id = ?", v.Rank, v.Site,
		v.Hidden, v.Clients, v.ID)
}

// NoteHeldData records that a server was seen with a database.
func (s *Store) NoteHeldData(ctx context.Context, id int64) error {
	_, err := s.w.ExecContext(ctx, "update servers set held_data = 1 where id = ?", id)
	return err
}

// RemoveServer removes a server's record.
func (s *Store) RemoveServer(ctx context.Context, id int64) error {
	return s.one(ctx, "delete from servers where id = ?", id)
}

// AddEnrollment keeps the hash of a one-time code for a server; an older code
// for it is void.
func (s *Store) AddEnrollment(ctx context.Context, serverID int64, hash string, expires time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "delete from enrollments where server_id = ?", serverID); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "insert into enrollments (code_hash, server_id, expires_at) values (?, ?, ?)", hash,
			serverID, expires.UTC().Format(timeText))
		return err
	})
}

// NoteAddress records where a server's database is reached, if that is not known yet.
func (s *Store) NoteAddress(ctx context.Context, id int64, host string, port int) error {
	_, err := s.w.ExecContext(ctx, "update servers set host = ?, port = ? where id = ? and host = ''", host, port, id)
	return err
}

// EnrollmentFor returns the server that a code is for, and leaves the code good.
func (s *Store) EnrollmentFor(ctx context.Context, hash string) (Server, error) {
	var r serverRow
	err := s.r.GetContext(ctx, &r, serverQuery+
		"where s.id = (select server_id from enrollments where code_hash = ? and expires_at > ?)", hash, now())
	return r.server(), notFound(err)
}

// UseEnrollment takes a code out of the records, keeps the addresses of its server's
// agent and database, and gives the server.
func (s *Store) UseEnrollment(ctx context.Context, hash, agent, host string, port int) (Server, error) {
	var out Server
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		var id int64
		if err := tx.GetContext(ctx, &id, "select server_id from enrollments where code_hash = ? and expires_at > ?", hash,
			now()); err != nil {
			return notFound(err)
		}
		if _, err := tx.ExecContext(ctx, "delete from enrollments where server_id = ?", id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "update servers set agent = ?, host = ?, port = ?, enrolled_at = ? where id = ?",
			agent, host, port, now(), id); err != nil {
			return err
		}
		var r serverRow
		if err := tx.GetContext(ctx, &r, serverQuery+"where s.id = ?", id); err != nil {
			return err
		}
		out = r.server()
		return nil
	})
	return out, err
}
