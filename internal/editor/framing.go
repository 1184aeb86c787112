package editor

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strconv"
	"strings"

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
}

func frame(in io.Reader, out io.WriteCloser) channel.Channel {
	return &framed{channel.Header("")(bytes.NewReader(nil), out), bufio.NewReaderSize(in, mostHeader)}
}

// Recv reads one message. The error is io.EOF where there is no more.
func (f *framed) Recv() ([]byte, error) {
	length := -1
	for first := true; ; first = false {
		line, err := f.in.ReadSlice('\n')
		switch {
		case err == io.EOF && first && len(line) == 0:
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
	return message.Bytes(), nil
}
