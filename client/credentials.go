package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
)

// Credential is how this user signs in to one service.
type Credential struct {
	Token string `json:"token"`
	Name  string `json:"name,omitempty"`

	Default bool `json:"default,omitempty"` // the service is meant where none is named
}

// CredentialsFile is where this user's credentials are: $KEMBREL_CREDENTIALS, or kembrel/credentials.json in the user's
// configuration folder.
func CredentialsFile() (string, error) {
	if f := os.Getenv("KEMBREL_CREDENTIALS"); f != "" {
		return f, nil
	}
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("where credentials are kept: %w; set KEMBREL_CREDENTIALS", err)
	}
	return filepath.Join(folder, "kembrel", "credentials.json"), nil
}

// LoadCredential finds the credential for a service; $KEMBREL_TOKEN goes before the file. Without one it is empty.
func LoadCredential(service string) (Credential, error) {
	if token := os.Getenv("KEMBREL_TOKEN"); token != "" {
		return Credential{Token: token}, nil
	}
	all, err := readCredentials()
	return all[service], err
}

func readCredentials() (map[string]Credential, error) {
	all := map[string]Credential{}
	path, err := CredentialsFile()
	if err != nil {
		return all, err
	}
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err == nil {
		err = json.Unmarshal(content, &all)
	}
	if err != nil {
		return all, fmt.Errorf("read credentials %s: %w", path, err)
	}
	return all, nil
}

// DefaultService is the service that this user signed in to last; "": none.
func DefaultService() string {
	all, _ := readCredentials() // whoever signs in hears what is wrong with them
	for service, c := range all {
		if c.Default {
			return service
		}
	}
	return ""
}

// Address makes an address of a service whole: without a scheme it is http:// on this machine and in private networks,
// https:// elsewhere.
func Address(text string) string {
	text = strings.TrimRight(text, "/")
	if text == "" || strings.Contains(text, "://") {
		return text
	}
	host, _, _ := strings.Cut(text, "/")
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	ip, err := netip.ParseAddr(host)
	if host == "localhost" || err == nil && (ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast()) {
		return "http://" + text
	}
	return "https://" + text
}

// SaveCredential keeps a credential for a service, readable by this user only. An empty one removes it.
func SaveCredential(service string, c Credential) error {
	all, err := readCredentials()
	if err != nil {
		return err
	}
	for other, o := range all {
		if c.Default && o.Default {
			o.Default = false
			all[other] = o
		}
	}
	all[service] = c
	if c.Token == "" {
		delete(all, service)
	}
	path, err := CredentialsFile()
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("keep credentials: %w", err)
	}
	if err := os.WriteFile(path+".new", append(text, '\n'), 0o600); err != nil {
		return fmt.Errorf("keep credentials: %w", err)
	}
	return os.Rename(path+".new", path)
}
