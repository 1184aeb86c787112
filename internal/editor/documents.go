package editor

import (
	"context"

	"github.com/creachadair/jrpc2"
)

func (s *server) didOpen(_ context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		TextDocument struct {
			URI     string `json:"uri"`
			Version int    `json:"version"`
			Text    string `json:"text"`
		} `json:"textDocument"`
	}
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, err
	}
	d := &document{file: fileOf(p.TextDocument.URI), version: p.TextDocument.Version, text: []byte(p.TextDocument.Text)}
	s.mutex.Lock()
	s.documents[p.TextDocument.URI] = d
	s.mutex.Unlock()
	if w := s.placeOf(d.file, true); w != nil {
		w.note(event{typed: true, now: true})
		w.note(event{written: true, now: true})
	}
	return nil, nil
}

func (s *server) didChange(_ context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		TextDocument struct {
			URI     string `json:"uri"`
			Version int    `json:"version"`
		} `json:"textDocument"`
		ContentChanges []contentChange `json:"contentChanges"`
	}
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, err
	}
	s.mutex.Lock()
	d := s.documents[p.TextDocument.URI]
	if d != nil {
		d.apply(p.ContentChanges, s.unit)
		d.version = p.TextDocument.Version
	}
	s.mutex.Unlock()
	if d != nil {
		if w := s.placeOf(d.file, false); w != nil {
			w.note(event{typed: true})
		}
	}
	return nil, nil
}

func (s *server) didSave(_ context.Context, req *jrpc2.Request) (any, error) {
	if w := s.placeOfDocument(uriOfRequest(req)); w != nil {
		w.note(event{written: true, saved: true})
	}
	return nil, nil
}

func (s *server) didClose(_ context.Context, req *jrpc2.Request) (any, error) {
	uri := uriOfRequest(req)
	w := s.placeOfDocument(uri)
	s.mutex.Lock()
	delete(s.documents, uri)
	s.mutex.Unlock()
	if w != nil {
		w.note(event{typed: true, now: true})
	}
	return nil, nil
}

// filesChanged takes note of files that others wrote, as far as the editor reports them.
func (s *server) filesChanged(context.Context, *jrpc2.Request) (any, error) {
	s.mutex.Lock()
	places := s.allPlaces()
	s.mutex.Unlock()
	for _, w := range places {
		w.note(event{written: true})
	}
	return nil, nil
}

// uriOfRequest is the document that a request is about.
func uriOfRequest(req *jrpc2.Request) string {
	var p struct {
		TextDocument textDocument `json:"textDocument"`
	}
	if req.UnmarshalParams(&p) != nil {
		return ""
	}
	return p.TextDocument.URI
}

// placeOfDocument is the place of an open document, nil where there is none.
func (s *server) placeOfDocument(uri string) *place {
	s.mutex.Lock()
	d := s.documents[uri]
	s.mutex.Unlock()
	if d == nil {
		return nil
	}
	return s.placeOf(d.file, false)
}
