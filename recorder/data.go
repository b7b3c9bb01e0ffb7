package recorder

import (
	"fmt"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// mostHanded is for how many uses items may be on their way at once.
const mostHanded = 100

// data keeps what the program uses for what: as it names it, or as the fingerprints of the items that it hands over,
// none of which is held. The mutex is held.
func (n *session) data(m protocol.Message, out *outbox) error {
	use := api.DataUse{Use: m.Use, Asked: m.Data}
	switch m.Do {
	case "items":
		if n.handed[m.Use] == nil {
			if len(n.handed) >= mostHanded {
				return fmt.Errorf("data is handed over for more than %d uses at once", mostHanded)
			}
			if n.handed == nil {
				n.handed = map[string]*dataset.Prints{}
			}
			n.handed[m.Use] = &dataset.Prints{}
		}
		return handOver(n.handed[m.Use], m)
	case "end":
		p := n.handed[m.Use]
		delete(n.handed, m.Use)
		if p == nil {
			p = &dataset.Prints{}
		}
		if use.Items = max(p.Keys.Count(), p.Digests.Count()); use.Items != m.Count {
			return onTheRun{fmt.Errorf("of the %d items of data handed over for %s, %d came to this recorder", m.Count,
				m.Use,
				use.Items)}
		}
		for to, print := range map[*string]*dataset.Fingerprint{&use.Keys: &p.Keys, &use.Digests: &p.Digests,
			&use.Pairs: &p.Pairs} {
			if print.Count() == use.Items && use.Items > 0 {
				*to = print.Digest().String()
			}
		}
	}
	return n.keepJSON(spool.Data, m, use, out)
}

// handOver counts items.
func handOver(p *dataset.Prints, m protocol.Message) error {
	digests := make([]chunk.Digest, len(m.Digests))
	for i, text := range m.Digests {
		if text == "" {
			continue
		}
		d, err := chunk.ParseDigest(text)
		if err != nil {
			return err
		}
		digests[i] = d
	}
	for i := range max(len(m.Keys), len(digests)) {
		key, digest := "", chunk.Digest{}
		if len(m.Keys) > 0 {
			key = m.Keys[i]
		}
		if len(digests) > 0 {
			digest = digests[i]
		}
		p.Add(key, digest)
	}
	return nil
}
