package main

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// nginx is a web server that files are put into and got from, on this machine: the plain way to move a file.
type nginx struct {
	cmd *exec.Cmd
	url string
}

func (w *world) startNginx() (*nginx, error) {
	if w.web != nil {
		return w.web, nil
	}
	folder := filepath.Join(w.folder, "nginx")
	for _, f := range []string{"files", "temp"} {
		if err := os.MkdirAll(filepath.Join(folder, f), 0o777); err != nil {
			return nil, err
		}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	address := listener.Addr().String()
	listener.Close()
	user := ""
	if os.Getuid() == 0 {
		user = "user root;"
	}
	settings := fmt.Sprintf(`%s daemon off; worker_processes 2; pid %[2]s/pid; error_log %[2]s/errors;
events {}
http { access_log off; client_max_body_size 0; client_body_temp_path %[2]s/temp; proxy_temp_path %[2]s/temp; fastcgi_temp_path %[2]s/temp; uwsgi_temp_path %[2]s/temp; scgi_temp_path %[2]s/temp;
  sendfile on; server { listen %[3]s; root %[2]s/files; location / { dav_methods PUT DELETE; client_body_buffer_size 1m; } } }`, user, folder, address)
	path := filepath.Join(folder, "settings")
	if err := os.WriteFile(path, []byte(settings), 0o644); err != nil {
		return nil, err
	}
	n := &nginx{cmd: exec.Command("/usr/sbin/nginx", "-c", path, "-p", folder), url: "http://" + address}
	n.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := n.cmd.Start(); err != nil {
		return nil, err
	}
	for range 100 {
		if conn, err := net.Dial("tcp", address); err == nil {
			conn.Close()
			w.web = n
			return n, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return nil, fmt.Errorf("nginx does not come up")
}

// source is a file of noise that is only there to be copied.
func (w *world) source() (string, error) {
	path := filepath.Join(w.folder, "source")
	if _, err := os.Stat(path); err != nil {
		return path, fill(path)
	}
	return path, nil
}

// nginxPut puts the file into nginx and makes it safe, and returns MB per second.
func (w *world) nginxPut() (float64, error) {
	n, err := w.startNginx()
	if err != nil {
		return 0, err
	}
	path, err := w.source()
	if err != nil {
		return 0, err
	}
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	kept := filepath.Join(w.folder, "nginx", "files", "one")
	os.Remove(kept)
	began := time.Now()
	r, err := http.NewRequest("PUT", n.url+"/one", f)
	if err != nil {
		return 0, err
	}
	r.ContentLength = size
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err
	}
	answer.Body.Close()
	if answer.StatusCode != http.StatusCreated {
		return 0, fmt.Errorf("nginx said %s", answer.Status)
	}
	if out, err := exec.Command("sync", kept).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	return size / 1e6 / time.Since(began).Seconds(), nil
}

// nginxGet gets the file from nginx and makes it safe.
func (w *world) nginxGet() (float64, error) {
	if _, err := os.Stat(filepath.Join(w.folder, "nginx", "files", "one")); err != nil {
		if _, err := w.nginxPut(); err != nil {
			return 0, err
		}
	}
	target := filepath.Join(w.folder, "got")
	defer os.Remove(target)
	began := time.Now()
	answer, err := http.Get(w.web.url + "/one")
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	f, err := os.Create(target)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if n, err := io.Copy(f, answer.Body); err != nil || n != size {
		return 0, fmt.Errorf("%d bytes: %w", n, err)
	}
	if err := f.Sync(); err != nil {
		return 0, err
	}
	return size / 1e6 / time.Since(began).Seconds(), nil
}

// against is a row with nginx for its reference.
func (w *world) against(r row, what, want string, theirs func() (float64, error)) row {
	r.what, r.reference, r.want, r.theirs = what, "nginx + sync", want, theirs
	return r
}

// known measures the upload of what the service has: of the run before, once more.
func (w *world) known() row {
	var data []byte
	return row{what: "300 MB the service knows: program's commit to the service's", reference: "cp + sync",
		unit: "MB/s", want: ">= 1", more: true, rounds: 5,
		theirs: w.copySync,
		ours: func() (float64, error) {
			if data == nil {
				path, err := w.source()
				if err != nil {
					return 0, err
				}
				if data, err = os.ReadFile(path); err != nil {
					return 0, err
				}
			}
			source := filepath.Join(w.folder, "spool", "known")
			if err := os.MkdirAll(filepath.Dir(source), 0o700); err != nil {
				return 0, err
			}
			if err := os.WriteFile(source, data, 0o600); err != nil {
				return 0, err
			}
			_, _, commit, err := w.send(source)
			return size / 1e6 / commit, err
		}}
}

// memory is the most that the service's process took while eight clients sent 300 MB each, all at once.
func (w *world) memory() row {
	return row{what: "service memory, eight uploads of 300 MB at once", reference: "idle, after its start", unit: "MB",
		want: "<= 300 MB", rounds: 1, both: w.eightUploads}
}

func (w *world) eightUploads() (idle, most float64, err error) {
	data, err := os.MkdirTemp("/var/tmp", "kembrel-bench-")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(data)
	if err := os.Chmod(data, 0o711); err != nil {
		return 0, 0, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, 0, err
	}
	address := listener.Addr().String()
	listener.Close()
	up := exec.Command(os.Getenv("KEMBREL_BINARY"), "start", "--data", data+"/data", "--listen",
		address, "--metrics", "")
	up.Env = append(os.Environ(), "KEMBREL_CREDENTIALS="+data+"/credentials.json", "KEMBREL_TOKEN=")
	up.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGINT}
	var said bytes.Buffer
	up.Stderr = &said
	if err := up.Start(); err != nil {
		return 0, 0, err
	}
	defer func() {
		up.Process.Signal(syscall.SIGINT)
		up.Wait()
	}()
	for {
		if answer, err := http.Get("http://" + address + "/api/v1/ready"); err == nil {
			answer.Body.Close()
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	time.Sleep(2 * time.Second)
	if idle, err = resident(up.Process.Pid, "VmRSS"); err != nil {
		return 0, 0, err
	}
	command := func(args ...string) ([]byte, error) {
		cmd := exec.Command(os.Getenv("KEMBREL_BINARY"), args...)
		cmd.Env = append(os.Environ(), "KEMBREL_URL=http://"+address, "KEMBREL_CREDENTIALS="+data+"/credentials.json",
			"KEMBREL_TOKEN=", "KEMBREL_SPOOL="+data+"/spool")
		out, err := cmd.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
		return out, err
	}
	if _, err := command("projects", "create", "vessels"); err != nil {
		return 0, 0, err
	}
	self, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	problems := make(chan error, 8)
	var wait sync.WaitGroup
	var filling sync.Mutex // of the noise
	for i := range 8 {
		wait.Go(func() {
			source := filepath.Join(data, fmt.Sprint("source", i))
			filling.Lock()
			err := fill(source)
			filling.Unlock()
			if err == nil {
				_, err = command("record", "--quiet", "--project", "vessels", "--", self, "save", source)
			}
			problems <- err
		})
	}
	wait.Wait()
	for range 8 {
		if err := <-problems; err != nil {
			return 0, 0, err
		}
	}
	most, err = resident(up.Process.Pid, "VmHWM")
	return idle, most, err
}

// resident is a process's memory in MB, as the kernel names it.
func resident(pid int, what string) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, what+":"); ok {
			kilobytes, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kilobytes * 1024 / 1e6, err
		}
	}
	return 0, fmt.Errorf("no %s", what)
}

// storeRows are the measurements of the checkpoint store.
func (w *world) storeRows() []row {
	return []row{
		w.upload(), w.against(w.upload(), "300 MB, new content, against a plain PUT", ">= 0.70", w.nginxPut),
		w.known(), w.stall(),
		w.restore(), w.against(w.restore(), "300 MB restored, verified, against a plain GET", ">= 1.0", w.nginxGet),
		w.storedBytes("momentum-fp32", "full state, momentum, fp32", "<= 0.84 (0.80)"),
		w.storedBytes("adam-fp32", "full state, Adam, fp32", "<= 0.84 (0.80)"),
		w.storedBytes("momentum", "full state, momentum, fp64 as the trainer has it", ""),
		w.storedBytes("npz", "the same in fp32, NPZ", "<= 0.84 (0.80)"),
		w.storedBytes("zip", "the same in fp32, zip", "<= 0.84 (0.80)"),
		w.storedBytes("frozen-fp32", "fine-tunes, two of three layers frozen, fp32", "<= 0.82 (0.76)"),
		w.storedBytes("bf16", "weights, bf16", "<= 0.70 (0.66)"), w.storedBytes("f16", "weights, fp16", ""),
		w.savedAndRestored("momentum-fp32", false), w.savedAndRestored("momentum-fp32", true),
		w.sizes(), w.memory(),
	}
}
