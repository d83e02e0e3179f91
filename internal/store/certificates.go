package store

import (
	"context"
	"time"
)

// Certificate is one of an agent that counts: no other one of its server's name does.
type Certificate struct {
	Cluster string    `db:"cluster"`
	Server  string    `db:"server"`
	Serial  string    `db:"serial"` // in hex
	MadeAt  time.Time `db:"made_at"`
}

// Certificates returns those of all agents, in the order in which they were recorded.
func (s *Store) Certificates(ctx context.Context, cluster string) ([]Certificate, error) {
	var rows []struct {
		Certificate
		MadeAt string `db:"made_at"`
	}
	err := s.r.SelectContext(ctx, &rows, "select c.name as cluster, s.name as server, x.serial, x.made_at from "+
		"certificates x join servers s on s.id = x.server_id join clusters c on c.id = s.cluster_id where ? in ('', c.name) "+
		"order by x.rowid", cluster)
	if err != nil {
		return nil, err
	}
	out := make([]Certificate, len(rows))
	for i, r := range rows {
		out[i] = r.Certificate
		if out[i].MadeAt, err = time.Parse(timeText, r.MadeAt); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// AddCertificate records one that was made for a server, beside those that it has.
func (s *Store) AddCertificate(ctx context.Context, x Certificate) error {
	_, err := s.w.ExecContext(ctx, "insert or ignore into certificates (server_id, serial, made_at) select s.id, ?, ? "+
		"from servers s join clusters c on c.id = s.cluster_id where c.name = ? and s.name = ?", x.Serial,
		x.MadeAt.UTC().Format(timeText), x.Cluster, x.Server)
	return err
}

// KeepCertificate drops all but one of a server's.
func (s *Store) KeepCertificate(ctx context.Context, x Certificate) error {
	_, err := s.w.ExecContext(ctx, "delete from certificates where serial <> ? and server_id = (select s.id from "+
		"servers s join clusters c on c.id = s.cluster_id where c.name = ? and s.name = ?)", x.Serial, x.Cluster, x.Server)
	return err
}
