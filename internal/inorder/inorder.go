// Package inorder writes long lists of items by all processors, in their order.
package inorder

import (
	"io"
	"runtime"
)

// atOnce is how many items one processor makes into text before the next takes over.
const atOnce = 256

// Write writes the texts of n items, with what separates them between. Item appends the text of one, from 0 on, to a slice; it is
// called by several goroutines at once. No more is held than a few stretches of items.
func Write(w io.Writer, n int, between string, item func(to []byte, i int) ([]byte, error)) error {
	type part struct {
		text []byte
		err  error
	}
	stretch := func(room []byte, from int) (p part) {
		p.text = room[:0]
		for i := from; i < min(from+atOnce, n) && p.err == nil; i++ {
			if i > 0 {
				p.text = append(p.text, between...)
			}
			p.text, p.err = item(p.text, i)
		}
		return p
	}
	waiting := make(chan chan part, runtime.GOMAXPROCS(0)) // in order
	rooms := make(chan []byte, 2*cap(waiting)+2)
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		defer close(waiting)
		for from := 0; from < n; from += atOnce {
			done := make(chan part, 1)
			select {
			case waiting <- done:
			case <-stop:
				return
			}
			var room []byte
			select {
			case room = <-rooms:
			default:
			}
			go func() { done <- stretch(room, from) }()
		}
	}()
	for done := range waiting {
		p := <-done
		if p.err != nil {
			return p.err
		}
		if _, err := w.Write(p.text); err != nil {
			return err
		}
		select {
		case rooms <- p.text:
		default:
		}
	}
	return nil
}
