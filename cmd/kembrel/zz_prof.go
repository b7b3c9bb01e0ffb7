package main

import (
	"os"
	"runtime/pprof"
	"time"
)

func init() {
	if f := os.Getenv("ZZPROF"); f != "" && len(os.Args) > 1 && os.Args[1] == "up" {
		go func() {
			time.Sleep(25 * time.Second)
			w, _ := os.Create(f)
			pprof.StartCPUProfile(w)
			time.Sleep(15 * time.Second)
			pprof.StopCPUProfile()
			w.Close()
		}()
	}
}
