package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"crosstwin/internal/core/verb"
)

// Writable reports whether the owner of the data may write to a file, or make it
// where it does not exist yet. As root, an agent makes missing directories itself.
func (d *Data) Writable(ctx context.Context, path string) bool {
	for {
		if _, err := d.Lstat(path); err == nil {
			_, _, err := d.Run(ctx, "/usr/bin/test", "-w", path)
			return err == nil
		}
		if path == filepath.Dir(path) {
			return false
		}
		path = filepath.Dir(path)
	}
}

// DirIdentity tells a directory from any other on any host: the start of its host, the
// file system and the number there. Empty when it is not known.
func DirIdentity(path string) string {
	var st syscall.Stat_t
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil || syscall.Stat(path, &st) != nil {
		return ""
	}
	return fmt.Sprintf("%s %d %d", strings.TrimSpace(string(boot)), st.Dev, st.Ino)
}

// LogMisfit tells when the log file could not be opened for a start: the agent opens
// it, and hands it to the server.
func (d *Data) LogMisfit(file string) []verb.Misfit {
	f, err := d.OpenLog(file, os.O_APPEND|os.O_WRONLY)
	if errors.Is(err, fs.ErrNotExist) {
		err = d.mayMake(file)
	} else if err == nil {
		err = f.Close()
	}
	if err == nil {
		return nil
	}
	return []verb.Misfit{{What: fmt.Sprintf("the log file %s of %s cannot be written: %v", file, d.Name, err),
		Mend: fmt.Sprintf("make its directory, or let %s's agent write there", d.Name)}}
}

// ConfigMisfit tells that the server's program refuses its configuration, in its words.
func ConfigMisfit(server, said string) verb.Misfit {
	return verb.Misfit{What: fmt.Sprintf("%s could not be started with its configuration: %s", server, said),
		Mend: "correct the configuration of " + server + ": a running server has not read it yet"}
}

// Remove removes what stands at paths as the owner of the data: whoever could make
// the paths lead elsewhere can remove no more than that.
func (d *Data) Remove(ctx context.Context, paths ...string) error {
	if len(paths) == 0 {
		return nil
	}
	_, _, err := d.Run(ctx, "/bin/rm", append([]string{"-rf", "--"}, paths...)...)
	return err
}
