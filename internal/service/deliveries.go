package service

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosstwin/internal/core/alert"
)

// Message is what is sent to a channel.
type Message struct {
	// Event is raised, over or test.
	Event string      `json:"event"`
	Alert alert.Alert `json:"alert"`
}

// commandChannel is the channel number of the command.
const commandChannel = 0

func (s *Service) enqueue(ctx context.Context, m Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	channels, err := s.Store.Channels(ctx)
	if err != nil {
		return err
	}
	if s.AlertCommand != "" {
		channels = append(channels, alert.Channel{ID: commandChannel})
	}
	for _, c := range channels {
		if _, err := s.Store.AddDelivery(ctx, c.ID, m.Alert.ID, string(body)); err != nil {
			return err
		}
	}
	return nil
}

// attempts after which a delivery is given up: with the back-off below, after
// about a day.
const deliveryAttempts = 16

// backoff doubles from two seconds to three hours.
func backoff(attempts int) time.Duration {
	return min(2*time.Second<<min(attempts, 20), 3*time.Hour)
}

// deliver sends what is due. Each message stays in the records until its
// receiver has said that it has it.
func (s *Service) deliver(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		due, err := s.Store.DueDeliveries(ctx, 20)
		if err != nil && ctx.Err() == nil {
			s.log.Error("what is to be sent cannot be read", "error", err)
		}
		if len(due) > 0 {
			s.sendAll(ctx, due)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// sendAll hands what is due to each channel's own queue: one that hangs holds up no
// other, and gets nothing new until it has answered.
func (s *Service) sendAll(ctx context.Context, due []alert.Delivery) {
	list, err := s.Store.Channels(ctx)
	if err != nil {
		return
	}
	channels := map[int64]alert.Channel{}
	for _, c := range list {
		channels[c.ID] = c
	}
	queues := map[int64][]alert.Delivery{}
	for _, d := range due {
		queues[d.ChannelID] = append(queues[d.ChannelID], d)
	}
	for id, queue := range queues {
		if _, busy := s.sending.LoadOrStore(id, true); busy {
			continue
		}
		s.running.Go(func() {
			defer s.sending.Delete(id)
			s.sendInOrder(ctx, channels[id], queue)
		})
	}
}

// sendInOrder sends messages to one channel until one fails: the rest waits for the
// next round, so that they stay in order.
func (s *Service) sendInOrder(ctx context.Context, c alert.Channel, queue []alert.Delivery) {
	for _, d := range queue {
		if ctx.Err() != nil {
			return
		}
		failed := s.send(ctx, c, d)
		if ctx.Err() != nil {
			return // the service stops: it is tried again after its start
		}
		problem, again := "", (*time.Time)(nil)
		if failed != nil {
			problem = failed.Error()
			s.log.Warn("an alert could not be delivered", "channel", c.Name, "attempts", d.Attempts+1, "error", failed)
			if d.Attempts+1 < deliveryAttempts {
				at := time.Now().Add(backoff(d.Attempts))
				again = &at
			}
		}
		if err := s.Store.Delivered(ctx, d.ID, problem, again); err != nil && ctx.Err() == nil {
			s.log.Error("a delivery cannot be recorded", "error", err)
		}
		if failed != nil {
			return
		}
	}
}

// sendTimeout bounds one attempt.
const sendTimeout = 10 * time.Second

func (s *Service) send(ctx context.Context, c alert.Channel, d alert.Delivery) error {
	ctx, cancel := context.WithTimeout(ctx, sendTimeout)
	defer cancel()
	if d.ChannelID == commandChannel {
		return s.runCommand(ctx, d.Body)
	}
	if c.Problem != "" {
		return errors.New(c.Problem)
	}
	req, err := http.NewRequestWithContext(ctx, "POST", c.URL, strings.NewReader(d.Body))
	if err != nil {
		return err
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Crosstwin-Delivery", strconv.FormatInt(d.ID, 10))
	req.Header.Set("Crosstwin-Time", at)
	req.Header.Set("Crosstwin-Signature", Signature(c.Secret, at, d.Body))
	res, err := s.hooks().Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode >= 300 {
		return fmt.Errorf("%s answered %s", c.URL, res.Status)
	}
	return nil
}

// hooks follows no redirect: a signed message goes where the administrator
// said, or nowhere.
func (s *Service) hooks() *http.Client {
	d := &net.Dialer{Timeout: sendTimeout, Control: func(_, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return mayDeliver(to.Addr(), s.DeliverTo)
	}}
	return &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: d.DialContext,
		DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// mayDeliver refuses addresses that a channel is not to reach: this machine's own and
// those of its link, where what listens trusts whoever is there. The address is the one
// that is dialled, whatever name led to it. Networks in allowed are allowed all the same.
func mayDeliver(to netip.Addr, allowed []netip.Prefix) error {
	to = to.Unmap()
	for _, p := range allowed {
		if p.Contains(to) {
			return nil
		}
	}
	if to.IsLoopback() || to.IsLinkLocalUnicast() || to.IsMulticast() || to.IsUnspecified() {
		return fmt.Errorf("%s is of this machine or its link, and no channel may lead there; where it should, start the "+
			"service with --deliver-to", to)
	}
	return nil
}

// Signature is the HMAC-SHA256, in hexadecimal, of the time and the body of a
// message with a full stop between them, under a channel's secret.
func Signature(secret, at, body string) string {
	m := hmac.New(sha256.New, []byte(secret))
	m.Write([]byte(at + "." + body))
	return hex.EncodeToString(m.Sum(nil))
}

// runCommand hands a message to the command's standard input. The command is
// part of the service's own configuration: no token can choose what runs here.
func (s *Service) runCommand(ctx context.Context, body string) error {
	cmd := exec.CommandContext(ctx, s.AlertCommand)
	cmd.Stdin = strings.NewReader(body)
	out := &firstBytes{left: mostOutput}
	cmd.Stdout, cmd.Stderr = out, out
	// What it started ends with it, and who still holds its output holds up nothing.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("it did not end within %s", sendTimeout)
		}
		return fmt.Errorf("%s: %w: %s", s.AlertCommand, err, strings.TrimSpace(out.String()))
	}
	return nil
}

// mostOutput is how much of the command's output is kept.
const mostOutput = 4 << 10

// firstBytes keeps the first bytes that are written to it.
type firstBytes struct {
	kept bytes.Buffer
	left int
}

func (f *firstBytes) String() string { return f.kept.String() }

func (f *firstBytes) Write(b []byte) (int, error) {
	n := min(len(b), f.left)
	f.left -= n
	f.kept.Write(b[:n])
	return len(b), nil
}

// AddChannel keeps a web address for alerts and gives the secret that signs
// what is sent there.
func (s *Service) AddChannel(ctx context.Context, name, address, who, from string) (secret string, err error) {
	if err := checkName("channel", name); err != nil {
		return "", err
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return "", badInput("%q is no web address: it begins with http:// or https://", address)
	}
	secret = rand.Text()
	if err := s.Store.AddChannel(ctx, alert.Channel{Name: name, URL: address, Secret: secret}); err != nil {
		return "", err
	}
	s.audit(ctx, who, from, "channel added", name, address)
	return secret, nil
}

// RemoveChannel removes one.
func (s *Service) RemoveChannel(ctx context.Context, name, who, from string) error {
	if err := s.Store.RemoveChannel(ctx, name); err != nil {
		return orNotFound(err, "channel", name)
	}
	s.audit(ctx, who, from, "channel removed", name, "")
	return nil
}

// TestChannel sends a test message to one channel and says how it went. The
// name "command" is the service's own command.
func (s *Service) TestChannel(ctx context.Context, name string) (alert.Delivery, error) {
	body, err := json.Marshal(Message{Event: "test",
		Alert: alert.Alert{Rule: "test", Level: string(alert.Warning), Text: "a test message of Cross Twin",
			RaisedAt: time.Now().UTC()}})
	if err != nil {
		return alert.Delivery{}, err
	}
	channels, err := s.Store.Channels(ctx)
	if err != nil {
		return alert.Delivery{}, err
	}
	if s.AlertCommand != "" {
		channels = append(channels, alert.Channel{ID: commandChannel, Name: "command"})
	}
	for _, c := range channels {
		if c.Name != name {
			continue
		}
		id, err := s.Store.AddDelivery(ctx, c.ID, 0, string(body))
		if err != nil {
			return alert.Delivery{}, err
		}
		problem := ""
		if err := s.send(ctx, c, alert.Delivery{ID: id, ChannelID: c.ID, Body: string(body)}); err != nil {
			problem = err.Error()
		}
		if err := s.Store.Delivered(ctx, id, problem, nil); err != nil {
			return alert.Delivery{}, err
		}
		return s.Store.Delivery(ctx, id)
	}
	return alert.Delivery{}, NotFound("channel", name)
}
