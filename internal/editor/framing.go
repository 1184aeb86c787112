package editor

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/creachadair/jrpc2/channel"
)

// mostMessage bounds how long a message of the editor's is, in bytes; mostHeader the same of a line of its header.
const (
	mostMessage = 256 << 20
	mostHeader  = 4 << 10
)

// framed reads messages with a header of their length (Language Server Protocol 3.17, Base Protocol), and takes memory for what has come
// of one, whatever its header promises.
type framed struct {
	channel.Channel // which writes them
	in              *bufio.Reader
	open            atomic.Int64 // how many requests came that aren't answered yet
	alone           bool         // the last one is answered before the next message is read
}

func frame(in io.Reader, out io.WriteCloser) *framed {
	return &framed{Channel: channel.Header("")(bytes.NewReader(nil), out), in: bufio.NewReaderSize(in, mostHeader)}
}

// kindOf tells requests and answers from notifications. Alone are requests that change what the others mean.
func kindOf(message []byte) (isRequest, isAnswer, alone bool) {
	var m struct {
		ID     json.RawMessage `json:"id"`
		Method *string         `json:"method"`
	}
	if json.Unmarshal(message, &m) != nil || m.ID == nil {
		return false, false, false
	}
	return m.Method != nil, m.Method == nil, m.Method != nil && (*m.Method == "initialize" || *m.Method == "shutdown")
}

// Send writes one message.
func (f *framed) Send(message []byte) error {
	err := f.Channel.Send(message)
	if _, isAnswer, _ := kindOf(message); isAnswer {
		f.open.Add(-1)
	}
	return err
}

// finish waits until all requests that came are answered, but not for long: one may wait for the user.
func (f *framed) finish() {
	for end := time.Now().Add(finishing); f.open.Load() > 0 && time.Now().Before(end); {
		time.Sleep(time.Millisecond)
	}
}

// finishing is how long requests may still take once the editor is gone.
const finishing = time.Second

// Recv reads one message. The error is io.EOF where there is no more.
func (f *framed) Recv() ([]byte, error) {
	if f.alone {
		f.finish()
	}
	length := -1
	for first := true; ; first = false {
		line, err := f.in.ReadSlice('\n')
		switch {
		case err == io.EOF && first && len(line) == 0:
			f.finish()
			return nil, io.EOF
		case err != nil:
			return nil, fmt.Errorf("the editor's message breaks off: %w", err)
		}
		field := strings.TrimRight(string(line), "\r\n")
		if field == "" && length >= 0 {
			break
		}
		name, value, ok := strings.Cut(field, ":")
		if !ok {
			return nil, fmt.Errorf("this isn't the Language Server Protocol: %.80q stands where a header should", field)
		}
		if strings.EqualFold(name, "Content-Length") {
			if length, err = strconv.Atoi(strings.TrimSpace(value)); err != nil || length < 0 || length > mostMessage {
				return nil, fmt.Errorf("the editor's message has a length of %.80q", value)
			}
		}
	}
	var message bytes.Buffer
	if _, err := io.CopyN(&message, f.in, int64(length)); err != nil {
		return nil, fmt.Errorf("the editor's message breaks off: %w", io.ErrUnexpectedEOF)
	}
	isRequest, _, alone := kindOf(message.Bytes())
	if f.alone = alone; isRequest {
		f.open.Add(1)
	}
	return message.Bytes(), nil
}
