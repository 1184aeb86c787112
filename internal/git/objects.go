package git

import (
	"bufio"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"sync"
)

// objects reads the contents that git stores, by name, through one git process that starts with the first question.
// It is safe for concurrent use.
type objects struct {
	repo  *Repo
	mutex sync.Mutex // one question at a time
	batch *exec.Cmd
	ask   io.WriteCloser
	reply *bufio.Reader
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

// read asks for one object's content. Only files' contents are found.
func (o *objects) read(name string) (data []byte, found bool, err error) {
	if strings.ContainsRune(name, '\n') { // which git's batches can't ask for
		data, err = o.repo.git("cat-file", "blob", name)
		return data, err == nil, nil
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if o.batch == nil {
		if err := o.start(); err != nil {
			return nil, false, err
		}
	}
	if _, err := io.WriteString(o.ask, name+"\n"); err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	return readObject(o.reply)
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

// readObject reads one answer: "name type size", the content, a line feed; or a line that says that there is none.
func readObject(in *bufio.Reader) (data []byte, found bool, err error) {
	head, err := in.ReadString('\n')
	if err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	fields := strings.Fields(head)
	if len(fields) < 3 || strings.HasSuffix(head, " missing\n") || strings.HasSuffix(head, " ambiguous\n") {
		return nil, false, nil
	}
	size, err := strconv.Atoi(fields[len(fields)-1])
	if err != nil {
		return nil, false, fmt.Errorf("git cat-file answered %q", head)
	}
	data = make([]byte, size+1)
	if _, err := io.ReadFull(in, data); err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	return data[:size], fields[len(fields)-2] == "blob", nil
}

// EachContent reads the contents of many objects by their hashes, in order, without waiting between them.
func (r *Repo) EachContent(names []string, see func(i int, data []byte)) error {
	if len(names) == 0 {
		return nil
	}
	cmd := r.command("cat-file", "--batch", "--buffer")
	cmd.Stdin = strings.NewReader(strings.Join(names, "\n") + "\n")
	_, err := streamCommand(cmd, func(out io.Reader) error {
		reply := bufio.NewReaderSize(out, 1<<16)
		for i := range names {
			data, found, err := readObject(reply)
			if err != nil {
				return err
			}
			if found {
				see(i, data)
			}
		}
		return nil
	})
	return err
}
