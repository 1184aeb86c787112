package git

import (
	"bufio"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
)

// objects reads the contents that git stores, by name, through one git process that starts with the first question.
type objects struct {
	repo  *Repo
	batch *exec.Cmd
	ask   io.WriteCloser
	reply *bufio.Reader
}

func (o *objects) close() error {
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
	o.batch, o.ask, o.reply, err = o.repo.batch("--batch")
	return err
}

// batch starts a process that answers names with contents.
func (r *Repo) batch(flags ...string) (cmd *exec.Cmd, ask io.WriteCloser, reply *bufio.Reader, err error) {
	cmd = r.command(append([]string{"cat-file"}, flags...)...)
	if ask, err = cmd.StdinPipe(); err != nil {
		return nil, nil, nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, nil, err
	}
	return cmd, ask, bufio.NewReaderSize(out, 1<<16), cmd.Start()
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
	cmd, ask, reply, err := r.batch("--batch", "--buffer")
	if err != nil {
		return err
	}
	go func() {
		io.WriteString(ask, strings.Join(names, "\n")+"\n")
		ask.Close()
	}()
	for i := range names {
		data, found, err := readObject(reply)
		if err != nil {
			cmd.Process.Kill()
			cmd.Wait()
			return err
		}
		if found {
			see(i, data)
		}
	}
	return cmd.Wait()
}
