package process

import (
	"bytes"
	"crypto/rand"
	"errors"
	"io"
	"os"
	"os/exec"
)

// Running is a program that was started, and whose outputs are taken. It is for one goroutine.
type Running struct {
	cmd     *exec.Cmd
	outputs []*output
}

// Start starts a command, and has what it writes go to writers, each of which another goroutine writes to until Wait returns. One that
// is nil leaves that output as the command has it; both may be the same. Where a writer fails, the rest is read and goes nowhere.
func Start(cmd *exec.Cmd, stdout, stderr io.Writer) (*Running, error) {
	r := &Running{cmd: cmd}
	err := r.take(stdout, &cmd.Stdout)
	if stderr != nil && stderr == stdout {
		cmd.Stderr = cmd.Stdout
	} else if err == nil {
		err = r.take(stderr, &cmd.Stderr)
	}
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		r.end()
	}
	return r, err
}

func (r *Running) take(to io.Writer, from *io.Writer) error {
	if to == nil {
		return nil
	}
	out, err := newOutput(to)
	if err != nil {
		return err
	}
	r.outputs, *from = append(r.outputs, out), out.in
	return nil
}

// end ends the taking of the outputs, once all is read that was written so far.
func (r *Running) end() {
	for _, o := range r.outputs {
		o.end()
	}
}

// Wait waits for the program's end, and for all that it wrote: however slow the machine is, none of that is lost. What processes write
// that it left behind isn't waited for. The error is that of exec.Cmd.Wait, or of a writer.
func (r *Running) Wait() error {
	err := r.cmd.Wait()
	if errors.Is(err, exec.ErrWaitDelay) { // what it was given to read took long to be put away; it ended well
		err = nil
	}
	r.end()
	for _, o := range r.outputs {
		if err == nil {
			err = o.err
		}
	}
	return err
}

// Run starts a command, and waits for its end and for all that it wrote.
func Run(cmd *exec.Cmd, stdout, stderr io.Writer) error {
	r, err := Start(cmd, stdout, stderr)
	if err != nil {
		return err
	}
	return r.Wait()
}

// Output runs a command, and gives what it wrote to standard output, and to standard error.
func Output(cmd *exec.Cmd) (out, complaint []byte, err error) {
	var stdout, stderr bytes.Buffer
	err = Run(cmd, &stdout, &stderr)
	return stdout.Bytes(), stderr.Bytes(), err
}

// output is a pipe that a program writes to. The reading side knows that it has read all once it meets a mark, which is written behind
// what the program wrote when that has ended: there may be no other end, since a process that was left behind may hold the pipe open.
type output struct {
	out, in *os.File
	mark    []byte
	read    chan struct{} // closed when all is read
	err     error         // the writer's
}

func newOutput(to io.Writer) (*output, error) {
	o := &output{mark: make([]byte, 32), read: make(chan struct{})}
	rand.Read(o.mark)
	var err error
	if o.out, o.in, err = os.Pipe(); err != nil {
		return nil, err
	}
	go o.copy(to)
	return o, nil
}

// copy copies what is read up to the mark.
func (o *output) copy(to io.Writer) {
	defer close(o.read)
	var held []byte // which may be the beginning of the mark
	room := make([]byte, 32<<10)
	write := func(data []byte) {
		if o.err == nil && len(data) > 0 {
			_, o.err = to.Write(data)
		}
	}
	for {
		n, err := o.out.Read(room)
		held = append(held, room[:n]...)
		if at := bytes.Index(held, o.mark); at >= 0 {
			write(held[:at])
			return
		}
		if err != nil {
			write(held)
			return
		}
		if sure := len(held) - len(o.mark) + 1; sure > 0 {
			write(held[:sure])
			held = append(held[:0], held[sure:]...)
		}
	}
}

// end reads what was written so far.
func (o *output) end() {
	o.in.Write(o.mark) // the reading side is there until it has read it
	<-o.read
	o.in.Close()
	o.out.Close()
}
