package agent

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/pki"
)

// Each server follows by an account of its own. Its password is made by its own agent
// and stays on its host: the primary's agent, which makes the account, gets what the
// database keeps of a password.

// accountFile holds this server's account, and those that it had before: a link that
// was set up with one of them may still need it.
const accountFile = "account.json"

type accounts struct {
	engine.Account
	Before []engine.Account `json:"before,omitempty"`
}

// all lists them, the present one first.
func (a accounts) all() []engine.Account { return append([]engine.Account{a.Account}, a.Before...) }

var errNoAccount = errors.New("the agent does not know the replication account yet")

// accounts returns what this server may follow by.
func (a *Agent) accounts() (acc accounts, err error) {
	b, err := os.ReadFile(filepath.Join(a.dir, accountFile))
	if err != nil {
		return acc, errNoAccount
	}
	return acc, json.Unmarshal(b, &acc)
}

// saveAccounts keeps them, and has the engine remember them.
func (a *Agent) saveAccounts(acc accounts) error {
	b, err := json.Marshal(acc)
	if err != nil {
		return err
	}
	if err := writeSynced(filepath.Join(a.dir, accountFile), b, 0o600); err != nil {
		return err
	}
	return a.rememberAccounts()
}

// rememberAccounts tells the engine of the accounts that are known.
func (a *Agent) rememberAccounts() error {
	acc, err := a.accounts()
	if errors.Is(err, errNoAccount) {
		return nil
	}
	if x, ok := a.engine.(engine.Accounter); ok && err == nil {
		err = x.Remember(acc.all()...)
	}
	return err
}

// ownAccount returns this server's account, with a password that nobody has to type
// when it has none yet.
func (a *Agent) ownAccount() accounts {
	name := verb.ReplicationUser(a.cfg.Server)
	acc, err := a.accounts()
	if err == nil && acc.User == name {
		return acc
	}
	next := accounts{Account: engine.Account{User: name}}
	if err == nil {
		next.Before = slices.DeleteFunc(acc.all(), func(b engine.Account) bool { return b.User == name })
	}
	var b [24]byte
	rand.Read(b[:])
	next.Password = hex.EncodeToString(b[:])
	return next
}

// prepare makes sure of this server's account and of the rules for those of all.
func (a *Agent) prepare(ctx context.Context, x engine.Accounter, v verb.Prepare) error {
	if !v.Account {
		if err := a.learnAccount(ctx, v.From); err != nil {
			return err
		}
		return x.Prepare(ctx, v)
	}
	// The roles swap: the primary will follow by its own account.
	own := a.ownAccount()
	secret, err := x.Secret(own.Password)
	if err != nil {
		return err
	}
	if err := x.Grant(ctx, a.cfg.Server, secret, a.cfg.Host); err != nil {
		return err
	}
	if err := a.saveAccounts(own); err != nil {
		return err
	}
	return x.Prepare(ctx, v)
}

// learnAccount has the primary's agent make this server's account, or set its password
// to the one that is known here.
func (a *Agent) learnAccount(ctx context.Context, from verb.Peer) error {
	x, ok := a.engine.(engine.Accounter)
	if !ok {
		return nil
	}
	own := a.ownAccount()
	secret, err := x.Secret(own.Password)
	if err != nil {
		return err
	}
	if err := a.askAccount(ctx, from, secret); err != nil {
		return err
	}
	return a.saveAccounts(own)
}

func (a *Agent) askAccount(ctx context.Context, from verb.Peer, secret string) error {
	c := a.peerClient(from.Name)
	c.Timeout = 10 * time.Second
	body, err := json.Marshal(agentapi.AccountRequest{Secret: secret})
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+from.Agent+"/agent/v1/peer/account",
		bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set(agentapi.PermitHeader, agentapi.PermitOf(ctx))
	res, err := c.Do(req)
	if err != nil {
		return fmt.Errorf("ask %s's agent at %s for an account: %w", from.Name, from.Agent, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		var p agentapi.Problem
		json.NewDecoder(io.LimitReader(res.Body, mostAnswer)).Decode(&p)
		return fmt.Errorf("%s's agent did not make an account: %s", from.Name, p.Detail)
	}
	return nil
}

// serveAccount makes the account of the server whose agent asks: its name is that of
// its certificate, its address the one that it asks from.
func (a *Agent) serveAccount(w http.ResponseWriter, r *http.Request) error {
	x, ok := a.engine.(engine.Accounter)
	if !ok {
		return agentapi.Problem{Title: "No accounts", Detail: a.cfg.Server + "'s engine keeps no accounts",
			Status: http.StatusNotFound, Code: agentapi.CodeNotFound}
	}
	var in agentapi.AccountRequest
	if err := decode(r.Body, &in); err != nil {
		return err
	}
	name := r.TLS.PeerCertificates[0].Subject.CommonName
	server := strings.TrimSuffix(name, pki.AgentName(a.cfg.Cluster, ""))
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return err
	}
	a.log.Info("a peer asks for its account", "peer", server, "from", host)
	if err := x.Grant(r.Context(), server, in.Secret, host); err != nil {
		return err
	}
	return answer(w, struct{}{})
}

func (a *Agent) probe(ctx context.Context, x engine.Accounter, c verb.Probe) verb.Probed {
	acc, err := a.accounts()
	if err != nil {
		return verb.Probed{Problem: err.Error()}
	}
	return x.Probe(ctx, c.Peer, acc.Account)
}
