package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/demo"
)

// postgresHand is the careful sequence with bare commands: slots and settings
// beforehand, a checkpoint, a fast stop, proof by control data, promotion
// asked for again every 50 ms.
type postgresHand struct {
	ctx                   context.Context
	primary, other, third *demo.Server
}

func (h *postgresHand) psql(s *demo.Server, sql ...string) (string, error) {
	args := []string{"-XAtq", "-h", s.SocketDir, "-p", strconv.Itoa(s.Port), "-U", "postgres", "-d", "postgres"}
	for _, q := range sql {
		args = append(args, "-c", q)
	}
	out, err := exec.CommandContext(h.ctx, "psql", args...).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("psql on %s: %w: %s", s.Name, err, out)
	}
	return strings.TrimSpace(string(out)), nil
}

func (h *postgresHand) follow(s, upstream *demo.Server) error {
	info := fmt.Sprintf("host=%s port=%d user=%s application_name=%s passfile=%s/pgpass", upstream.Host,
		upstream.Port, verb.ReplicationUser(s.Name), s.Name, s.AgentDir)
	_, err := h.psql(s, "alter system set primary_conninfo = '"+info+"'",
		"alter system set primary_slot_name = 'hand_"+s.Name+"'", "select pg_reload_conf()")
	return err
}

func (h *postgresHand) switchover() error {
	p, n, c := h.primary, h.other, h.third
	for _, s := range []*demo.Server{p, c} {
		if _, err := h.psql(n, "select pg_create_physical_replication_slot('hand_"+s.Name+
			"', true) where not exists (select from pg_replication_slots where slot_name = 'hand_"+s.Name+"')"); err != nil {
			return err
		}
	}
	if err := h.follow(p, n); err != nil {
		return err
	}
	if _, err := h.psql(p, "checkpoint"); err != nil {
		return err
	}
	signal := filepath.Join(p.DataDir, "standby.signal")
	if err := os.WriteFile(signal, nil, 0o600); err != nil {
		return err
	}
	if fi, err := os.Stat(p.DataDir); err == nil {
		st := fi.Sys().(*syscall.Stat_t)
		os.Chown(signal, int(st.Uid), int(st.Gid))
	}
	b, err := os.ReadFile(filepath.Join(p.DataDir, "postmaster.pid"))
	if err != nil {
		return err
	}
	pid, _ := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])

	// The pause.
	syscall.Kill(pid, syscall.SIGINT)
	end := ""
	for end == "" {
		out, err := exec.CommandContext(h.ctx, "/usr/lib/postgresql/15/bin/pg_controldata", "-D", p.DataDir).Output()
		if err != nil {
			return err
		}
		if strings.Contains(string(out), "shut down\n") {
			for _, l := range strings.Split(string(out), "\n") {
				if v, ok := strings.CutPrefix(l, "Latest checkpoint location:"); ok {
					end = strings.TrimSpace(v)
				}
			}
		}
	}
	for {
		ok, err := h.psql(n, "select pg_last_wal_replay_lsn() > '"+end+"'")
		if err != nil {
			return err
		}
		if ok == "t" {
			break
		}
	}
	for {
		if _, err := h.psql(n, "select pg_promote(false) where pg_is_in_recovery()"); err != nil {
			return err
		}
		time.Sleep(50 * time.Millisecond)
		if r, err := h.psql(n, "select pg_is_in_recovery()"); err != nil {
			return err
		} else if r == "f" {
			break
		}
	}
	// After it.
	if err := h.follow(c, n); err != nil {
		return err
	}
	if err := p.StartByHand(h.ctx); err != nil {
		return err
	}
	for _, s := range []*demo.Server{p, c} {
		for {
			r, err := h.psql(n, "select count(*) from pg_stat_replication where state = 'streaming' and application_name = '"+
				s.Name+"'")
			if err != nil {
				return err
			}
			if r == "1" {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	h.primary, h.other = n, p
	return nil
}
