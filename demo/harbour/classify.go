package main

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"time"
)

// classify answers which vessel a clip is of, over HTTP, with a restored checkpoint: POST /classify with the clip as
// NPY. It prints its address once it answers.
func classify(folder, listen string) error {
	model, pre, err := load(folder)
	if err != nil {
		return err
	}
	at, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	turn := make(chan *network, 1) // a network computes one answer at a time
	turn <- model
	routes := http.NewServeMux()
	routes.HandleFunc("POST /classify", func(w http.ResponseWriter, r *http.Request) {
		content, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<16))
		var c clip
		if err == nil {
			err = c.read(content)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		one := []clip{c}
		pre.Scaling.apply(one)
		n := <-turn
		scores := append([]float64(nil), n.forward(one[0].levels[:], nil)...)
		turn <- n
		k := best(scores)
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(map[string]any{"class": classes[k], "score": scores[k]})
	})
	fmt.Printf("http://%s\n", at.Addr())
	server := &http.Server{Handler: routes, ReadTimeout: 10 * time.Second}
	return server.Serve(at)
}

// read reads a clip as write writes it.
func (c *clip) read(content []byte) error {
	head := 10
	if len(content) < head || string(content[:6]) != "\x93NUMPY" || content[6] != 1 {
		return errors.New("the clip is no NPY file of version 1")
	}
	head += int(binary.LittleEndian.Uint16(content[8:]))
	if len(content) < head || !bytes.Contains(content[10:head], []byte("'<f4'")) ||
		!bytes.Contains(content[10:head], []byte("'fortran_order': False")) || len(content)-head != 4*bands*frames {
		return fmt.Errorf("the clip is not of %d x %d 32-bit numbers", bands, frames)
	}
	for i := range c.levels {
		v := float64(math.Float32frombits(binary.LittleEndian.Uint32(content[head+4*i:])))
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return errors.New("the clip has levels that are no numbers")
		}
		c.levels[i] = v
	}
	return nil
}
