//go:build !linux

package blob

import "os"

func beginWriting(*os.File, int64, int64) {}
