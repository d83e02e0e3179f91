package pgtool

import (
	"regexp"
	"slices"
	"strings"
)

// linkMessages begin the messages in which the processes that receive and replay
// log say why they cannot (sources of version 15: walreceiver.c, xlogrecovery.c,
// libpqwalreceiver.c, timeline.c). An application's errors stand in the same file.
var linkMessages = []string{
	"could not connect to the primary server", "could not start WAL streaming", "could not receive ",
	"could not send data to WAL stream", "could not send end-of-streaming message", "could not end ",
	"invalid connection string syntax", "database system identifier differs", "highest timeline ",
	"primary server contains no more WAL", "requested WAL segment ", "requested starting point ",
	"requested timeline ", "terminating walreceiver", "replication terminated by primary server", "new timeline ",
	"unexpected timeline ID ", "error reading result of streaming command", "no COPY in progress",
}

// logLine finds the first word for a severity: what stands before is the prefix that
// the administrator chose, and a later one belongs to the text.
var logLine = regexp.MustCompile(
	`(FATAL|ERROR|LOG|PANIC|WARNING|NOTICE|INFO|STATEMENT|DETAIL|HINT|CONTEXT|QUERY|LOCATION):  (.*)$`)

// LinkProblem returns the newest reason that a server's log gives why it receives no
// log from its upstream; empty when it gives none.
func LinkProblem(log string) string {
	for _, line := range slices.Backward(strings.Split(log, "\n")) {
		m := logLine.FindStringSubmatch(line)
		if m == nil || !slices.Contains([]string{"FATAL", "ERROR", "LOG"}, m[1]) {
			continue
		}
		if slices.ContainsFunc(linkMessages, func(begin string) bool { return strings.HasPrefix(m[2], begin) }) {
			return strings.TrimSpace(m[2])
		}
	}
	return ""
}
