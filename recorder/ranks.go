package recorder

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Several processes of one training, its ranks, speak with one recorder. The first, 0, is the run's; what the others
// record goes by names of their own. Steps rise within each of them, not among them: what they say is put in order
// before it is kept. Where they save together, the files of all of them become one checkpoint.

// rankBits is the room of a message's number; above it in the spool stands the rank that said it, as each numbers its
// own.
const rankBits = 40

// numbered is a message's number in the spool.
func numbered(rank int, id int64) int64 {
	if id == 0 {
		return 0
	}
	return int64(rank)<<rankBits | id&(1<<rankBits-1)
}

// noteKept remembers the last message kept of each rank.
func (n *session) noteKept(message int64) {
	rank := int(message >> rankBits)
	n.kept[rank] = max(n.kept[rank], message&(1<<rankBits-1))
}

// speaks reports what is wrong with a message of a rank other than the first, which speaks for the run.
func speaks(rank int, m protocol.Message) error {
	if rank == 0 || m.Kind == protocol.Readings || m.Kind == protocol.NoteKind ||
		m.Kind == protocol.Checkpoint && m.Do != "begin" {
		return nil
	}
	return fmt.Errorf("rank 0 says that of the run; rank %d may say readings, notes and its part of a checkpoint", rank)
}

// orderTime is how long readings of one rank wait for those of the others, firstTime for the first of a rank that is to
// come: rank 0, which says before it what holds for the run, and those that it says there are. orderRoom is how many
// may wait.
const (
	orderTime = 10 * time.Second
	firstTime = time.Minute
	orderRoom = 100_000
)

// order puts readings of several ranks in the order of their steps.
type order struct {
	waiting  []waiting
	held     int           // readings that wait
	reached  map[int]int64 // step, by rank that has recorded
	there    map[int]int   // connections, by rank
	ranks    int           // that record, as the program says; 0: it does not
	began    time.Time     // when the first readings came
	late     map[int]bool  // ranks of which it was said that they are late
	awaiting bool          // a look at what has waited long enough is due
}

// waiting is a message that waits for its turn: readings or, so that what a process says stays in its order, what it
// says behind them.
type waiting struct {
	m    protocol.Message
	out  *outbox
	came time.Time
	step int64 // where its turn is
}

func (w waiting) readings() int { return len(w.m.Batch.Axis) * len(w.m.Names) }

// wait puts a message in line. The mutex is held.
func (n *session) wait(m protocol.Message, out *outbox, step int64) {
	o := &n.order
	at, _ := slices.BinarySearchFunc(o.waiting, step,
		func(w waiting, step int64) int { return cmp.Or(cmp.Compare(w.step, step), -1) })
	w := waiting{m, out, time.Now(), step}
	o.waiting = slices.Insert(o.waiting, at, w)
	o.held += w.readings()
	n.release(false)
}

// waits reports whether readings of a rank wait. What is kept is answered with all before it, so whatever else the rank
// says waits behind them.
func (o *order) waits(rank int) bool {
	return slices.ContainsFunc(o.waiting, func(w waiting) bool { return w.out.rank == rank })
}

// ordered takes readings once more than the first rank records: they wait until every other rank that records has come
// as far. The mutex is held.
func (n *session) ordered(m protocol.Message, out *outbox) error {
	o := &n.order
	if o.reached == nil {
		o.reached, o.late, o.began = map[int]int64{}, map[int]bool{}, time.Now()
		if n.readings > 0 && out.rank > 0 {
			o.reached[0] = n.lastStep
		}
	}
	first, last := m.Batch.Axis[0].Step, m.Batch.Axis[len(m.Batch.Axis)-1].Step
	if reached, known := o.reached[out.rank]; known && first < reached {
		return m.Batch.Check(reached)
	}
	o.reached[out.rank] = last
	for i, name := range m.Names {
		if out.rank > 0 {
			m.Names[i] = fmt.Sprintf("rank%d.%s", out.rank, name)
		}
	}
	n.wait(m, out, first)
	return nil
}

// settled waits until what a rank said before is kept.
func (n *session) settled(rank int) {
	for {
		n.mutex.Lock()
		waits := n.order.waits(rank)
		n.mutex.Unlock()
		if !waits {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// release keeps what need not wait any longer: what every rank has come by that is there, what has waited long enough,
// or all. The mutex is held.
func (n *session) release(all bool) {
	o := &n.order
	common, patience := int64(everyStep), orderTime
	if o.missing() && time.Since(o.began) < firstTime {
		common, patience = -1, firstTime
	}
	for rank, step := range o.reached {
		if o.there[rank] > 0 {
			common = min(common, step)
		}
	}
	for len(o.waiting) > 0 {
		w := o.waiting[0]
		if !all && w.step > common && o.held <= orderRoom && time.Since(w.came) < patience {
			break
		}
		o.waiting = o.waiting[1:]
		o.held -= w.readings()
		n.keepOrdered(w)
	}
	if len(o.waiting) == 0 {
		o.waiting = nil
	} else if !o.awaiting {
		o.awaiting = true
		time.AfterFunc(time.Second, func() {
			n.mutex.Lock()
			defer n.mutex.Unlock()
			o.awaiting = false
			n.release(false)
		})
	}
}

// missing reports whether a rank that is to record has not yet.
func (o *order) missing() bool {
	for rank := range max(o.ranks, 1) {
		if _, begun := o.reached[rank]; !begun {
			return true
		}
	}
	return false
}

// everyStep is beyond every step.
const everyStep = 1<<63 - 1

// keepOrdered keeps a message whose turn it is. Readings of a rank that is far behind stand at the step that the others
// had reached, which is said.
func (n *session) keepOrdered(w waiting) {
	if w.m.Kind != protocol.Readings {
		if err := n.keepSaid(w.m, w.out); err != nil {
			n.beside(func() { n.problem(w.out, w.m, err) })
		}
		return
	}
	for i := range w.m.Batch.Axis {
		p := &w.m.Batch.Axis[i]
		if p.Step >= n.lastStep {
			break
		}
		if rank := w.out.rank; !n.order.late[rank] {
			n.order.late[rank] = true
			text := fmt.Sprintf("Rank %d is over %s behind the others: from step %d on, readings of it stand at the step that the others had reached.", rank, orderTime, p.Step)
			n.say("%s", text)
			n.beside(func() { n.remark(text) })
		}
		p.Step = n.lastStep
	}
	if err := n.keepReadings(w.m, w.out); err != nil {
		n.beside(func() { n.problem(w.out, w.m, err) })
	}
}

// gathering is a checkpoint whose files come from several ranks.
type gathering struct {
	files map[int][]protocol.File
	heard map[int]answer
}

// answer is a message that is to be answered.
type answer struct {
	out *outbox
	id  int64
}

// mostJoins is how many ranks may wait for checkpoints that rank 0 has not begun.
const mostJoins = 65_535

// join tells another rank where the checkpoint of a step is written, once the first has begun it. The mutex is held.
func (n *session) join(m protocol.Message, out *outbox) error {
	for key, manifest := range n.open {
		if manifest.Step == m.Step && manifest.Ranks > 1 {
			out.put(protocol.Reply{Kind: "folder", ID: m.ID, Checkpoint: key, Folder: n.spool.OpenFolder(key)})
			return nil
		}
	}
	if n.steps[m.Step] {
		return fmt.Errorf("rank 0 saved step %d without the other ranks; let it gather them too", m.Step)
	}
	waiting := 0
	for _, joins := range n.joins {
		waiting += len(joins)
	}
	if waiting >= mostJoins {
		return fmt.Errorf("too many ranks wait for a checkpoint that rank 0 has not begun")
	}
	n.joins[m.Step] = append(n.joins[m.Step], answer{out, m.ID})
	return nil
}

// begun answers the ranks that wait for a checkpoint. The mutex is held.
func (n *session) begun(manifest spool.Manifest) {
	for _, a := range n.joins[manifest.Step] {
		if manifest.Ranks > 1 {
			a.out.put(protocol.Reply{Kind: "folder", ID: a.id, Checkpoint: manifest.Key,
				Folder: n.spool.OpenFolder(manifest.Key)})
		} else {
			a.out.put(protocol.Reply{Kind: "problem", ID: a.id,
				What: fmt.Sprintf("checkpoint: rank 0 saved step %d without the other ranks; let it gather them too",
					manifest.Step)})
		}
	}
	for step := range n.joins {
		if step <= manifest.Step { // rank 0 does not go back
			delete(n.joins, step)
		}
	}
}

// gather takes a rank's files of a checkpoint; whole says that those of all ranks are there, which whole then holds.
// The mutex is held.
func (n *session) gather(manifest spool.Manifest, m protocol.Message,
	out *outbox) (whole *protocol.Message, heard []answer, err error) {
	g := n.gathers[manifest.Key]
	if g == nil {
		g = &gathering{map[int][]protocol.File{}, map[int]answer{}}
		n.gathers[manifest.Key] = g
	}
	if out.rank >= manifest.Ranks {
		return nil, nil, fmt.Errorf("rank %d is beyond the %d that rank 0 gathers", out.rank, manifest.Ranks)
	}
	own := fmt.Sprintf("rank%d", out.rank)
	files := slices.Clone(m.Files)
	for i, f := range files {
		if out.rank == 0 {
			continue
		}
		if !strings.HasPrefix(path.Clean(f.Path), own+"/") {
			return nil, nil, fmt.Errorf("file %.100q of rank %d is not in the folder %s", f.Path, out.rank, own)
		}
		files[i].Part = own + "-" + f.Part
	}
	g.files[out.rank], g.heard[out.rank] = files, answer{out, m.ID}
	if len(g.files) < manifest.Ranks {
		return nil, nil, nil
	}
	delete(n.gathers, manifest.Key)
	whole = &protocol.Message{Kind: m.Kind, Do: m.Do, Key: m.Key}
	for rank := range manifest.Ranks {
		whole.Files = append(whole.Files, g.files[rank]...)
		heard = append(heard, g.heard[rank])
	}
	return whole, heard, nil
}

// sayUngathered leaves on the run which checkpoints were not kept because ranks did not hand over their part.
func (n *session) sayUngathered() {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	for _, manifest := range n.open {
		if manifest.Ranks < 2 {
			continue
		}
		var missing []string
		for rank := range manifest.Ranks {
			if g := n.gathers[manifest.Key]; (g == nil || g.files[rank] == nil) && len(missing) < 20 {
				missing = append(missing, fmt.Sprint(rank))
			}
		}
		n.miss(manifest.Step, fmt.Errorf("these of its %d ranks did not hand over their part: %s", manifest.Ranks,
			strings.Join(missing, ", ")))
	}
}
