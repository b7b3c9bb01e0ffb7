package lineage

import (
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Vocabulary is the namespace of our types and attributes in PROV.
const Vocabulary = "urn:kembrel:lineage:1:"

// relation is a relation of PROV between two things, with the names of its places in PROV-JSON and how many of its
// optional places PROV-N writes behind them.
type relation struct {
	name, first, second string
	rest                int
}

var (
	used       = relation{"used", "prov:activity", "prov:entity", 1}
	generated  = relation{"wasGeneratedBy", "prov:entity", "prov:activity", 1}
	derived    = relation{"wasDerivedFrom", "prov:generatedEntity", "prov:usedEntity", 3}
	informed   = relation{"wasInformedBy", "prov:informed", "prov:informant", 0}
	associated = relation{"wasAssociatedWith", "prov:activity", "prov:agent", 1}
	attributed = relation{"wasAttributedTo", "prov:entity", "prov:agent", 0}
)

// statement is a relation between two names, with attributes.
type statement struct {
	relation
	a, b       string
	attributes []attribute
}

// attribute has a text or the name of something as its value.
type attribute struct {
	name, text string
	qualified  bool
}

func typed(kind string) attribute { return attribute{"prov:type", kind, true} }

// element is an entity, an activity or an agent.
type element struct {
	sort, name string
	at         time.Time // when an activity began
	attributes []attribute
}

// statements turns a graph into PROV: data and checkpoints are entities, runs and evaluations activities, people
// agents. What may not be seen is left out.
func (g *Graph) statements() (things []element, links []statement) {
	people := map[string]bool{}
	for _, n := range g.Nodes {
		if n.State == Hidden {
			continue
		}
		e := element{sort: "entity", name: local(n.Address),
			attributes: []attribute{typed("kembrel:" + string(n.Kind)), {"prov:label", n.Address, false}}}
		by := attributed
		if n.Kind == Run || n.Kind == Evaluation {
			e.sort, e.at, by = "activity", n.At, associated
		} else if !n.At.IsZero() {
			e.attributes = append(e.attributes, attribute{"kembrel:at", stamp(n.At), false})
		}
		if n.Title != "" {
			e.attributes = append(e.attributes, attribute{"kembrel:title", n.Title, false})
		}
		for _, place := range n.Places {
			e.attributes = append(e.attributes, attribute{"kembrel:used-at", place, false})
		}
		if n.State != "" {
			e.attributes = append(e.attributes, attribute{"kembrel:state", n.State, false})
		}
		things = append(things, e)
		if n.Who == "" {
			continue
		}
		who := local("people/" + n.Who)
		if !people[who] {
			people[who] = true
			things = append(things, element{sort: "agent", name: who,
				attributes: []attribute{typed("prov:Person"), {"prov:label", n.Who, false}}})
		}
		links = append(links, statement{relation: by, a: e.name, b: who})
	}
	for _, l := range g.Links {
		from, to := g.Nodes[l.From], g.Nodes[l.To]
		if from.State == Hidden || to.State == Hidden {
			continue
		}
		s := statement{relation: used, a: local(to.Address), b: local(from.Address)}
		switch {
		case l.How == Saved:
			s.relation = generated
		case l.How == Rerun || to.Kind == Run && from.Kind == Run: // of a checkpoint that is not known any more
			s.relation = informed
		case l.How == Changed:
			s.relation, s.attributes = derived, []attribute{typed("prov:Revision")}
		case l.How == Entered:
			s.relation = derived
		}
		if l.How == Data {
			s.attributes = []attribute{{"prov:role", l.Use, false}}
		} else {
			s.attributes = append(s.attributes, attribute{"kembrel:how", string(l.How), false})
		}
		if l.Data != "" {
			s.attributes = append(s.attributes, attribute{"kembrel:split", l.Data, false})
		}
		links = append(links, s)
	}
	slices.SortStableFunc(things, func(a, b element) int { return strings.Compare(a.sort, b.sort) })
	return things, links
}

// local is the local part of a name: what PROV-N's grammar does not take as it is, is written in percents.
func local(text string) string {
	var out strings.Builder
	for i, c := range []byte(text) {
		switch {
		case 'a' <= c && c <= 'z', 'A' <= c && c <= 'Z', '0' <= c && c <= '9', strings.IndexByte("/@#_", c) >= 0,
			strings.IndexByte("-.", c) >= 0 && i > 0 && i < len(text)-1:
			out.WriteByte(c)
		default:
			fmt.Fprintf(&out, "%%%02X", c)
		}
	}
	return "here:" + out.String()
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

// here is the namespace of a service's things.
func here(service string) string {
	u, err := url.Parse(service)
	if err != nil || u.Scheme == "" {
		return "urn:kembrel:service:"
	}
	u.RawQuery, u.Fragment, u.User = "", "", nil
	return strings.TrimRight(u.String(), "/") + "/"
}

// WriteJSON writes a graph as PROV-JSON. The things are named in the namespace of the service, its URL.
func (g *Graph) WriteJSON(to io.Writer, service string) error {
	things, links := g.statements()
	doc := map[string]any{"prefix": map[string]string{"kembrel": Vocabulary, "here": here(service)}}
	section := func(name string) map[string]any {
		if _, ok := doc[name]; !ok {
			doc[name] = map[string]any{}
		}
		return doc[name].(map[string]any)
	}
	for _, e := range things {
		body := jsonAttributes(e.attributes)
		if !e.at.IsZero() {
			body["prov:startTime"] = stamp(e.at)
		}
		section(e.sort)[e.name] = body
	}
	for i, s := range links {
		body := jsonAttributes(s.attributes)
		body[s.first], body[s.second] = s.a, s.b
		section(s.name)[fmt.Sprintf("_:r%d", i+1)] = body
	}
	out := json.NewEncoder(to)
	out.SetIndent("", "  ")
	out.SetEscapeHTML(false)
	return out.Encode(doc)
}

func jsonAttributes(all []attribute) map[string]any {
	out := map[string]any{}
	for _, a := range all {
		if a.qualified {
			out[a.name] = map[string]string{"$": a.text, "type": "prov:QUALIFIED_NAME"}
		} else {
			out[a.name] = a.text
		}
	}
	return out
}

// WriteN writes a graph as PROV-N. The things are named in the namespace of the service, its URL.
func (g *Graph) WriteN(to io.Writer, service string) error {
	things, links := g.statements()
	var out strings.Builder
	fmt.Fprintf(&out, "document\n  prefix kembrel <%s>\n  prefix here <%s>\n\n", Vocabulary, here(service))
	for _, e := range things {
		fmt.Fprintf(&out, "  %s(%s", e.sort, e.name)
		if e.sort == "activity" {
			at := "-"
			if !e.at.IsZero() {
				at = stamp(e.at)
			}
			fmt.Fprintf(&out, ", %s, -", at)
		}
		fmt.Fprintf(&out, "%s)\n", textAttributes(e.attributes))
	}
	out.WriteByte('\n')
	for _, s := range links {
		fmt.Fprintf(&out, "  %s(%s, %s%s%s)\n", s.name, s.a, s.b, strings.Repeat(", -", s.rest),
			textAttributes(s.attributes))
	}
	out.WriteString("endDocument\n")
	_, err := io.WriteString(to, out.String())
	return err
}

func textAttributes(all []attribute) string {
	if len(all) == 0 {
		return ""
	}
	parts := make([]string, len(all))
	slices.SortFunc(all, func(a, b attribute) int { return strings.Compare(a.name, b.name) })
	for i, a := range all {
		if a.qualified {
			parts[i] = fmt.Sprintf("%s='%s'", a.name, a.text)
		} else {
			parts[i] = fmt.Sprintf(`%s="%s"`, a.name, escapes.Replace(a.text))
		}
	}
	return ", [" + strings.Join(parts, ", ") + "]"
}

// escapes are those of strings in PROV-N.
var escapes = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "\t", `\t`)
