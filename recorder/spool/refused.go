package spool

import (
	"errors"
	"os"
	"path/filepath"
)

// refusedFile is where records lie that the service does not take, in the form of records without the head of a spool's
// file.
const refusedFile = "refused"

// SetAside keeps a record that the service does not take. It stays when all else has been sent, until the spool is
// dropped.
func (s *Spool) SetAside(r Record) error {
	f, err := os.OpenFile(filepath.Join(s.Folder, refusedFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(appendRecord(nil, r.Kind, r.Message, r.Body))
	return errors.Join(err, f.Sync(), f.Close())
}
