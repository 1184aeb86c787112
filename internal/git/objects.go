package git

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
)

// objects reads the contents that git stores, by name, through one git process that starts with the first question. What was
// read is kept, as far as there is room, since several parts of a run look at the few files that a commit changes. It is safe for
// concurrent use.
type objects struct {
	repo  *Repo
	mutex sync.Mutex // one question at a time
	batch *exec.Cmd
	ask   io.WriteCloser
	reply *bufio.Reader

	kept map[string][]byte // by name
	size int               // of all that is kept, in bytes
}

// mostKept bounds what is kept, in bytes.
const mostKept = 2 << 20

// begin starts the process, for a question that will come. Where that fails, the question meets the error.
func (o *objects) begin() {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if o.batch == nil {
		o.start()
	}
}

func (o *objects) close() error {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if o.batch == nil {
		return nil
	}
	o.ask.Close()
	return o.batch.Wait()
}

// read asks for one object's content. Only files' contents are found. The data isn't the caller's to write to.
func (o *objects) read(name string) (data []byte, found bool, err error) {
	if strings.ContainsRune(name, '\n') { // which git's batches can't ask for
		data, err = o.repo.git("cat-file", "blob", name)
		return data, err == nil, nil
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if data, known := o.kept[name]; known {
		return data, true, nil
	}
	if o.batch == nil {
		if err := o.start(); err != nil {
			return nil, false, err
		}
	}
	if _, err := io.WriteString(o.ask, name+"\n"); err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	data, found, err = readObject(o.reply)
	if found && o.size+len(data) <= mostKept && !strings.HasPrefix(name, ":") { // which is the index, and may change
		if o.kept == nil {
			o.kept = map[string][]byte{}
		}
		data = slices.Clip(data)
		o.kept[name], o.size = data, o.size+len(data)
	}
	return data, found, err
}

func (o *objects) start() (err error) {
	cmd := o.repo.command("cat-file", "--batch")
	if o.ask, err = cmd.StdinPipe(); err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	o.batch, o.reply = cmd, bufio.NewReaderSize(out, 1<<16)
	return nil
}

// readObject reads one answer: "name type size", the content, a line feed; or a line that says that there is none. The content is new
// memory.
func readObject(in *bufio.Reader) (data []byte, found bool, err error) {
	size, found, err := readHead(in)
	if size < 0 || err != nil {
		return nil, false, err
	}
	data = make([]byte, size+1)
	if _, err := io.ReadFull(in, data); err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	return data[:size], found, nil
}

// readHead reads the line before a content; the size, in bytes, is negative where there is no object, and found says whether it is a
// file's.
func readHead(in *bufio.Reader) (size int, found bool, err error) {
	head, err := in.ReadSlice('\n')
	if err != nil {
		return -1, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	fields := bytes.Fields(head)
	if len(fields) < 3 || bytes.HasSuffix(head, []byte(" missing\n")) || bytes.HasSuffix(head, []byte(" ambiguous\n")) {
		return -1, false, nil
	}
	if size, err = strconv.Atoi(string(fields[len(fields)-1])); err != nil {
		return -1, false, fmt.Errorf("git cat-file answered %q", head)
	}
	return size, string(fields[len(fields)-2]) == "blob", nil
}

// EachContent reads the contents of many objects by their hashes, in order, without waiting between them. The data is good until
// see returns.
func (r *Repo) EachContent(names []string, see func(i int, data []byte)) error {
	return r.eachContent(names, math.MaxInt, see)
}

// eachContent leaves out contents of more than most bytes.
func (r *Repo) eachContent(names []string, most int, see func(i int, data []byte)) error {
	if len(names) == 0 {
		return nil
	}
	cmd := r.command("cat-file", "--batch", "--buffer")
	cmd.Stdin = strings.NewReader(strings.Join(names, "\n") + "\n")
	_, err := streamCommand(cmd, func(out io.Reader) error {
		reply := bufio.NewReaderSize(out, readAtOnce)
		var room []byte
		content := func(size int) (data []byte, err error) {
			if size < readAtOnce {
				return reply.Peek(size + 1) // where it lies
			}
			room = slices.Grow(room[:0], size+1)[:size+1]
			data = room
			if cap(room) > mostRoom {
				room = nil
			}
			_, err = io.ReadFull(reply, data)
			return data, err
		}
		for i := range names {
			size, found, err := readHead(reply)
			if err != nil {
				return err
			}
			if size < 0 {
				continue
			}
			if size > most {
				if _, err := reply.Discard(size + 1); err != nil {
					return fmt.Errorf("git cat-file ended: %w", err)
				}
				continue
			}
			data, err := content(size)
			if err != nil {
				return fmt.Errorf("git cat-file ended: %w", err)
			}
			if found {
				see(i, data[:size:size])
			}
			if size < readAtOnce {
				reply.Discard(size + 1)
			}
		}
		return nil
	})
	return err
}

// readAtOnce is how much is read of git at once, mostRoom bounds the room that is kept for a larger object; in bytes.
const (
	readAtOnce = 1 << 18
	mostRoom   = 4 << 20
)

// From how many objects on it pays to ask for them by several processes, and in the order in which they are stored.
const (
	sharedFrom  = 100
	orderedFrom = 1000
)

// AnyContent does as EachContent, in whatever order is fastest: see may be called by several goroutines at once.
func (r *Repo) AnyContent(names []string, see func(i int, data []byte)) error {
	return r.anyContent(names, math.MaxInt, see)
}

func (r *Repo) anyContent(names []string, most int, see func(i int, data []byte)) error {
	if len(names) < sharedFrom {
		return r.eachContent(names, most, see)
	}
	order := make([]int32, len(names))
	for i := range order {
		order[i] = int32(i)
	}
	if len(names) >= orderedFrom {
		chained, err := r.chained(names)
		if err == nil && chained {
			order, err = r.storeOrder(names)
		}
		if err != nil {
			return err
		}
	}
	var group errgroup.Group
	workers := min(runtime.GOMAXPROCS(0), mostReaders)
	for part := range slices.Chunk(order, (len(order)+workers-1)/workers) {
		group.Go(func() error {
			asked := make([]string, len(part))
			for n, i := range part {
				asked[n] = names[i]
			}
			return r.eachContent(asked, most, func(n int, data []byte) { see(int(part[n]), data) })
		})
	}
	return group.Wait()
}

// mostReaders bounds how many git processes read objects side by side.
const mostReaders = 4

// Of how many objects it is asked how they are stored, and of how many of these one that is stored as a difference makes it worth while
// to ask for all in the order of the store.
const (
	sampled = 64
	worth   = 4
)

// chained reports whether objects, as far as a few of them tell, are stored as what differs from others.
func (r *Repo) chained(names []string) (bool, error) {
	few := make([]string, sampled)
	for i := range few {
		few[i] = names[i*len(names)/sampled]
	}
	told, err := r.tell("%(deltabase)", few)
	deltas := 0
	for _, base := range told {
		if IsHash(base) && strings.Trim(base, "0") != "" {
			deltas++
		}
	}
	return deltas*worth >= sampled, err
}

// tell gives what git tells of objects in a format of its cat-file, a line for each of their names.
func (r *Repo) tell(format string, names []string) ([]string, error) {
	cmd := r.command("cat-file", "--batch-check="+format, "--buffer")
	cmd.Stdin = strings.NewReader(strings.Join(names, "\n") + "\n")
	told := make([]string, 0, len(names))
	_, err := streamCommand(cmd, func(out io.Reader) error {
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			told = append(told, lines.Text())
		}
		return lines.Err()
	})
	if err == nil && len(told) != len(names) {
		err = fmt.Errorf("git cat-file told of %d objects of %d", len(told), len(names))
	}
	return told, err
}

// storeOrder gives the indices of objects in the order in which git stores them: one that is stored as a difference stands near
// what it differs from, and following such chains in any other order takes git many times as long. The store is looked through
// only as far as that is quick; what isn't found there comes last.
func (r *Repo) storeOrder(names []string) ([]int32, error) {
	at := make(map[string]int32, len(names))
	var twice []int32 // whose contents others have too
	for i, name := range names {
		if _, known := at[name]; known {
			twice = append(twice, int32(i))
			continue
		}
		at[name] = int32(i)
	}
	order := make([]int32, 0, len(names))
	_, err := streamCommand(r.command("cat-file", "--batch-all-objects", "--unordered", "--buffer", "--batch-check=%(objectname)"), func(out io.Reader) error {
		list := bufio.NewReaderSize(out, 1<<16)
		for left := lookedThrough * len(names); left > 0 && len(at) > 0; left-- {
			line, err := list.ReadSlice('\n')
			if err == io.EOF {
				return nil
			} else if err != nil {
				return err
			}
			if i, wanted := at[string(line[:len(line)-1])]; wanted {
				order = append(order, i)
				delete(at, names[i])
			}
		}
		return errEnough
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	rest := slices.AppendSeq(twice, maps.Values(at))
	slices.Sort(rest)
	return append(order, rest...), nil
}

// lookedThrough is how many objects of the store are looked at for each that is wanted, at most.
const lookedThrough = 30

// errEnough ends a command whose rest nobody needs.
var errEnough = errors.New("that is enough")
