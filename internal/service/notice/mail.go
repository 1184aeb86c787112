package notice

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/smtp"
	"strings"
	"time"
)

// Server is what takes mail.
type Server struct {
	Address        string // host:port
	From           string
	User, Password string // "" for none
}

// Letter is a mail of plain text.
type Letter struct {
	ID      string // the same each time the same is sent
	To      string
	Subject string
	Body    string
	Time    time.Time
}

// Mail hands a letter to a server (RFC 5321), by TLS where that offers it (RFC 3207). A password goes by TLS, or to this machine.
func Mail(ctx context.Context, s Server, l Letter) error {
	ctx, cancel := context.WithTimeout(ctx, longestMail)
	defer cancel()
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil {
		return err
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return err
	}
	defer conn.Close()
	if until, ok := ctx.Deadline(); ok {
		conn.SetDeadline(until)
	}
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return err
	}
	if ok, _ := c.Extension("STARTTLS"); ok {
		if err := c.StartTLS(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}); err != nil {
			return err
		}
	}
	if s.User != "" {
		if err := c.Auth(smtp.PlainAuth("", s.User, s.Password, host)); err != nil {
			return err
		}
	}
	if err := errors.Join(c.Mail(s.From), c.Rcpt(l.To)); err != nil {
		return err
	}
	to, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := to.Write(l.text(s.From)); err != nil {
		return err
	}
	if err := to.Close(); err != nil {
		return err
	}
	c.Quit() // it is taken
	return nil
}

// longestMail is how long a server may take in all.
const longestMail = 30 * time.Second

// text is the letter with its header (RFC 5322).
func (l Letter) text(from string) []byte {
	_, domain, _ := strings.Cut(from, "@")
	var out bytes.Buffer
	for _, field := range [][2]string{
		{"From", from}, {"To", l.To}, {"Subject", mime.QEncoding.Encode("utf-8", oneLine(l.Subject))}, {"Date", l.Time.UTC().Format(time.RFC1123Z)},
		{"Message-ID", fmt.Sprintf("<%s@%s>", l.ID, domain)}, {"MIME-Version", "1.0"}, {"Content-Type", "text/plain; charset=utf-8"},
		{"Content-Transfer-Encoding", "quoted-printable"}, {"Auto-Submitted", "auto-generated"},
	} {
		fmt.Fprintf(&out, "%s: %s\r\n", field[0], field[1])
	}
	out.WriteString("\r\n")
	to := quotedprintable.NewWriter(&out)
	to.Write([]byte(l.Body + "\n")) // into memory, which never fails
	to.Close()
	return out.Bytes()
}

// oneLine is a text without line ends and control characters, which would begin another field.
func oneLine(text string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, text)
}
