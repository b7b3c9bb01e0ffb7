package recorder

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/mem"
	"github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/recorder/spool"
)

// machinePace is how often the machine is read.
const machinePace = 5 * time.Second

// gpuVariable names the command that is asked about GPUs, where it is not the vendor's own on the PATH.
const (
	gpuVariable = "KEMBREL_GPU_QUERY"
	gpuCommand  = "nvidia-smi"
	gpuTime     = 3 * time.Second
)

// machine reads what the host and the program use. Shares are of 1, sizes in bytes, speeds in bytes per second; the
// program's CPU is in cores. What cannot be read here is left out.
type machine struct {
	program   int32 // 0: not known yet
	gpu       string
	at        time.Time
	disk      [2]uint64 // read and written
	net       [2]uint64 // in and out
	program1  float64   // seconds of CPU
	kills     int64     // by the system, for want of memory
	strangers map[int32]bool
}

func newMachine() *machine {
	m := &machine{kills: memoryKills(), strangers: map[int32]bool{}}
	m.gpu = gpuPath()
	cpu.Percent(0, false) // from here on
	m.rates(func(string, float64) {})
	return m
}

// gpuPath is the command that is asked about GPUs; "": there is none.
func gpuPath() string {
	command := os.Getenv(gpuVariable)
	if command == "" {
		command = gpuCommand
	}
	path, _ := exec.LookPath(command)
	return path
}

// read hands over each reading by its curve's name, and returns what a person should know.
func (m *machine) read(ctx context.Context, give func(name string, v float64)) (notes []string) {
	if p, err := cpu.Percent(0, false); err == nil && len(p) == 1 {
		give("host.cpu", p[0]/100)
	}
	if v, err := mem.VirtualMemory(); err == nil {
		give("host.memory", float64(v.Total-v.Available))
		give("host.memory.share", float64(v.Total-v.Available)/float64(v.Total))
	}
	m.rates(give)
	return m.gpus(ctx, give)
}

// rates gives what has to be compared with the time before.
func (m *machine) rates(give func(string, float64)) {
	now := time.Now()
	passed := now.Sub(m.at).Seconds()
	first := m.at.IsZero()
	m.at = now
	pair := func(last *[2]uint64, fresh [2]uint64, names [2]string) {
		for i := range fresh {
			if !first && fresh[i] >= last[i] {
				give(names[i], float64(fresh[i]-last[i])/passed)
			}
		}
		*last = fresh
	}
	if counters, err := disk.IOCounters(); err == nil {
		var sum [2]uint64
		for name, c := range counters {
			if _, err := os.Stat("/sys/block/" + name); err == nil { // whole disks, not their partitions too
				sum[0], sum[1] = sum[0]+c.ReadBytes, sum[1]+c.WriteBytes
			}
		}
		pair(&m.disk, sum, [2]string{"host.disk.read", "host.disk.write"})
	}
	if counters, err := net.IOCounters(true); err == nil {
		var sum [2]uint64
		for _, c := range counters {
			if c.Name != "lo" {
				sum[0], sum[1] = sum[0]+c.BytesRecv, sum[1]+c.BytesSent
			}
		}
		pair(&m.net, sum, [2]string{"host.net.in", "host.net.out"})
	}
	seconds, resident := 0.0, 0.0
	family := m.family()
	for _, p := range family {
		if t, err := p.Times(); err == nil {
			seconds += t.User + t.System
		}
		if i, err := p.MemoryInfo(); err == nil {
			resident += float64(i.RSS)
		}
	}
	if len(family) > 0 {
		give("host.program.memory", resident)
		if !first && seconds >= m.program1 {
			give("host.program.cpu", (seconds-m.program1)/passed)
		}
		m.program1 = seconds
	}
}

// family is the program and its descendants.
func (m *machine) family() []*process.Process {
	if m.program == 0 {
		return nil
	}
	p, err := process.NewProcess(m.program)
	if err != nil {
		return nil
	}
	out := []*process.Process{p}
	for i := 0; i < len(out) && len(out) < 200; i++ {
		if children, err := out[i].Children(); err == nil {
			out = append(out, children...)
		}
	}
	return out
}

// gpus asks the vendor's command for each GPU's use, and for the processes on them.
func (m *machine) gpus(ctx context.Context, give func(string, float64)) (notes []string) {
	if m.gpu == "" {
		return nil
	}
	rows := m.ask(ctx, "--query-gpu=index,utilization.gpu,memory.used,memory.total,temperature.gpu")
	for _, r := range rows {
		for i, column := range []struct {
			name   string
			factor float64
		}{{"use", 0.01}, {"memory", 1 << 20}, {"", 0}, {"temperature", 1}} {
			if v, err := strconv.ParseFloat(r[i+1], 64); err == nil && column.name != "" {
				give("host.gpu"+r[0]+"."+column.name, v*column.factor)
			}
		}
	}
	own := map[int32]bool{}
	for _, p := range m.family() {
		own[p.Pid] = true
	}
	for _, r := range m.ask(ctx, "--query-compute-apps=pid,used_memory,process_name") {
		pid, err1 := strconv.ParseInt(r[0], 10, 32)
		used, err2 := strconv.ParseFloat(r[1], 64)
		if err1 != nil || err2 != nil || own[int32(pid)] || m.strangers[int32(pid)] || len(own) == 0 {
			continue
		}
		m.strangers[int32(pid)] = true
		notes = append(notes, fmt.Sprintf("Another process held a GPU: %s (process %d) with %s of its memory.", r[2],
			pid, api.Bytes(int64(used)<<20)))
	}
	return notes
}

// ask runs a query; rows that have not all columns are left out.
func (m *machine) ask(ctx context.Context, query string) [][]string {
	ctx, cancel := context.WithTimeout(ctx, gpuTime)
	defer cancel()
	out, err := exec.CommandContext(ctx, m.gpu, query, "--format=csv,noheader,nounits").Output()
	if err != nil {
		return nil
	}
	r := csv.NewReader(strings.NewReader(string(out)))
	r.TrimLeadingSpace = true
	r.FieldsPerRecord = strings.Count(query, ",") + 1
	var rows [][]string
	for range 64 {
		row, err := r.Read()
		if err != nil {
			break
		}
		rows = append(rows, row)
	}
	return rows
}

// memoryKills is how many processes the system has killed for want of memory since it was started.
func memoryKills() int64 {
	content, err := os.ReadFile("/proc/vmstat")
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(content), "\n") {
		if count, ok := strings.CutPrefix(line, "oom_kill "); ok {
			n, _ := strconv.ParseInt(count, 10, 64)
			return n
		}
	}
	return 0
}

// ranOut says, at the end of a program that was killed, whether memory was why.
func (m *machine) ranOut() string {
	if n := memoryKills(); n > m.kills {
		return "The system ran out of memory while this ran, and killed a process."
	}
	return ""
}

// watchMachine keeps the machine's readings until ctx ends. They stand at the step that the program has reached.
func (n *session) watchMachine(ctx context.Context, m *machine, program func() int) {
	ticker := time.NewTicker(machinePace)
	defer ticker.Stop()
	soon := time.NewTimer(time.Second) // short runs have one reading at least
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		case <-soon.C:
		}
		m.program = int32(program())
		b := curve.Builder{}
		n.mutex.Lock()
		b.Point(curve.Point{Step: n.lastStep, Epoch: n.lastEpoch, Time: time.Now().UnixMilli()})
		n.mutex.Unlock()
		notes := m.read(ctx, b.Value)
		n.mutex.Lock()
		if batch := b.Batch(); b.Len() > 0 {
			batch.Axis[0].Step, batch.Axis[0].Epoch = n.lastStep, n.lastEpoch // the program may have gone on
			n.spool.Append(spool.Readings, 0, encodeReadings(b.Names, batch), func(error) {})
		}
		n.mutex.Unlock()
		for _, text := range notes {
			n.remark(text)
		}
	}
}

// remark leaves a note of the recorder's own. It waits for nothing.
func (n *session) remark(text string) {
	body, err := json.Marshal(api.NewNote{At: time.Now(), Text: text})
	if err != nil {
		return
	}
	n.spool.Append(spool.Note, 0, body, func(err error) {
		if err != nil {
			n.say("a note could not be kept: %v", err)
		}
	})
}
