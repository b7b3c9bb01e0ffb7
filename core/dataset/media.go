package dataset

import (
	"bytes"
	"unicode/utf8"
)

// Media is what bytes are, so that they can be shown: by their content, never by a name.
type Media struct {
	Kind string // picture, sound, array, text, or "" where they can only be downloaded
	Type string // the media type by which a browser takes them; of what may run something, one that runs nothing
}

// beginnings are how files begin, as the WHATWG's MIME Sniffing standard has them, and NPY; a zero byte stands for any.
var beginnings = []struct {
	bytes string
	media Media
}{
	{"\x89PNG\r\n\x1a\n", Media{"picture", "image/png"}}, {"\xff\xd8\xff", Media{"picture", "image/jpeg"}},
	{"GIF87a", Media{"picture", "image/gif"}}, {"GIF89a", Media{"picture", "image/gif"}},
	{"RIFF\x00\x00\x00\x00WEBPVP", Media{"picture", "image/webp"}}, {"BM", Media{"picture", "image/bmp"}},
	{"RIFF\x00\x00\x00\x00WAVE", Media{"sound", "audio/wav"}}, {"fLaC", Media{"sound", "audio/flac"}},
	{"OggS", Media{"sound", "audio/ogg"}}, {"ID3", Media{"sound", "audio/mpeg"}},
	{"\x93NUMPY", Media{"array", "application/octet-stream"}},
}

// MediaOf looks at the first bytes (512 or all) of an item.
func MediaOf(head []byte) Media {
	for _, b := range beginnings {
		if begins(head, b.bytes) && (b.bytes != "BM" || !isText(head)) {
			return b.media
		}
	}
	trimmed := bytes.TrimLeft(head, "\xef\xbb\xbf \t\r\n")
	switch {
	case bytes.HasPrefix(trimmed, []byte("<svg")),
		bytes.HasPrefix(trimmed, []byte("<?xml")) && bytes.Contains(head, []byte("<svg")):
		return Media{"picture", "image/svg+xml"} // shown as an image only, where it can run nothing
	case isText(head):
		return Media{"text", "text/plain; charset=utf-8"}
	}
	return Media{"", "application/octet-stream"}
}

func begins(head []byte, with string) bool {
	if len(head) < len(with) {
		return false
	}
	for i := range len(with) {
		if with[i] != 0 && head[i] != with[i] {
			return false
		}
	}
	return true
}

// isText reports whether bytes are UTF-8 without control characters; a character cut off at the end does not count.
func isText(head []byte) bool {
	for len(head) > 0 {
		r, n := utf8.DecodeRune(head)
		if r == utf8.RuneError && n == 1 {
			return len(head) < utf8.UTFMax && !utf8.FullRune(head)
		}
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0x7f {
			return false
		}
		head = head[n:]
	}
	return true
}
