// Command gpu stands in for the vendor's command that tells of GPUs, for the demo and the tests: one GPU of 16 GB, half
// used, on which process 1 holds some memory. Point KEMBREL_GPU_QUERY at it.
package main

import (
	"fmt"
	"math"
	"os"
	"strings"
	"time"
)

func main() {
	query := strings.Join(os.Args[1:], " ")
	switch {
	case strings.Contains(query, "--query-gpu=name"):
		fmt.Println("Buoy 16")
	case strings.Contains(query, "--query-gpu="):
		wave := math.Sin(float64(time.Now().UnixMilli()) / 9000)
		fmt.Printf("0, %.0f, %.0f, 16384, %.0f\n", 70+25*wave, 8192+512*wave, 61+4*wave)
	case strings.Contains(query, "--query-compute-apps="):
		fmt.Println("1, 3072, /usr/lib/harbour/sonar")
	default:
		os.Exit(1)
	}
}
