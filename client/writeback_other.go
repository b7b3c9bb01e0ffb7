//go:build !linux

package client

import "os"

func beginWriting(*os.File, int64, int64) {}
