package recorder

import (
	"math"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"kembrel/api"
)

// withheld stands where something that looks like a secret was.
const withheld = "[withheld by kembrel]"

// secretWords are in the names of variables, options and keys whose values no recipe records.
var secretWords = []string{"TOKEN", "SECRET", "PASS", "KEY", "CREDENTIAL", "AUTH", "COOKIE", "PRIVATE"}

// Secret reports whether a variable's name sounds like that of a secret.
func Secret(name string) bool {
	return slices.ContainsFunc(secretWords, func(w string) bool { return strings.Contains(strings.ToUpper(name), w) })
}

// secretFiles are names of files that hold secrets by custom; what changed in them is left out of a patch.
var secretFiles = []string{".env", ".env.*", "*.env", ".envrc", ".netrc", "_netrc", ".npmrc", ".pypirc", ".pgpass",
	".my.cnf", ".htpasswd", "*.pem", "*.key", "*.p12", "*.pfx", "*.jks",
	"*.keystore", "*.kdbx", "*.ppk", "*.gpg", "*.asc", "*.ovpn", "id_rsa*", "id_dsa*", "id_ecdsa*", "id_ed25519*",
	"credentials", "credentials.*", "secret", "secret.*", "secrets", "secrets.*", "*.tfvars", "*.tfstate"}

// secretFolders hold secrets by custom.
var secretFolders = []string{".ssh", ".aws", ".gnupg", ".docker", ".kube", ".azure", "secrets"}

func secretFile(name string) bool {
	name = strings.ToLower(name)
	for _, folder := range strings.Split(path.Dir(name), "/") {
		if slices.Contains(secretFolders, folder) {
			return true
		}
	}
	return slices.ContainsFunc(secretFiles, func(pattern string) bool {
		ok, _ := path.Match(pattern, path.Base(name))
		return ok
	})
}

// Shapes of what is a secret by itself, and of a value behind a name that says so.
var (
	knownShapes = regexp.MustCompile(strings.Join([]string{
		`-----BEGIN [A-Z ]*PRIVATE KEY-----[\s\S]*?(?:-----END [A-Z ]*PRIVATE KEY-----|\z)`,
		`\b(?:AKIA|ASIA)[0-9A-Z]{16}\b`, `\bgh[pousr]_[A-Za-z0-9]{20,}`, `\bgithub_pat_[A-Za-z0-9_]{20,}`,
		`\bglpat-[A-Za-z0-9_-]{16,}`, `\bxox[a-z]-[A-Za-z0-9-]{10,}`,
		// our own tokens
		`\bAIza[0-9A-Za-z_-]{30,}`, `\bsk-[A-Za-z0-9_-]{20,}`, `\bnpm_[A-Za-z0-9]{30,}`, `\bpypi-[A-Za-z0-9_-]{30,}`,
		`\b[A-Z2-7]{52}\b`,
		`\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*`,
	}, "|"))
	bearer   = regexp.MustCompile(`(?i)\b((?:bearer|basic)\s+)[A-Za-z0-9._~+/=-]{8,}`)
	inURL    = regexp.MustCompile(`([A-Za-z][A-Za-z0-9+.-]*://)[^/\s@'"]+@`)
	assigned = regexp.MustCompile(`(?i)([A-Za-z0-9_.-]*(?:token|secret|passw(?:or)?d|passphrase|api[_-]?key|access[_-]?key|private[_-]?key|credential|auth[_-]?key)(?:[_.0-9-][A-Za-z0-9_.-]*)?["']?\s*[:=]\s*)("[^"\n]{4,}"|'[^'\n]{4,}'|[^\s"'(){}\[\],;]{6,})`)
	long     = regexp.MustCompile(`[A-Za-z0-9+_=-]{24,}`)
	checksum = regexp.MustCompile(`(?:sha1|sha256|sha384|sha512|md5|h1|b3)[-:]$`)
)

// random reports whether letters and digits follow each other as drawn by lot, as in keys, not as in words: the kind of
// character changes about twice in three places by chance, in words in camel case about once in three.
func random(s string) bool {
	kind := func(c byte) int {
		switch {
		case 'a' <= c && c <= 'z':
			return 1
		case 'A' <= c && c <= 'Z':
			return 2
		case '0' <= c && c <= '9':
			return 3
		}
		return 0
	}
	changes, counts, kinds := 0, map[byte]int{}, map[int]bool{}
	for i := range len(s) {
		counts[s[i]]++
		kinds[kind(s[i])] = true
		if i > 0 && kind(s[i]) != kind(s[i-1]) {
			changes++
		}
	}
	entropy := 0.0
	for _, n := range counts {
		p := float64(n) / float64(len(s))
		entropy -= p * math.Log2(p)
	}
	return kinds[1] && kinds[2] && kinds[3] && entropy >= 3.5 && float64(changes) >= 0.42*float64(len(s))
}

// withoutSecrets replaces what looks like a secret in a text.
func withoutSecrets(text string) string {
	text = knownShapes.ReplaceAllString(text, withheld)
	text = bearer.ReplaceAllString(text, "${1}"+withheld)
	text = inURL.ReplaceAllString(text, "${1}"+withheld+"@")
	text = assigned.ReplaceAllStringFunc(text, func(all string) string {
		m := assigned.FindStringSubmatch(all)
		if value := strings.Trim(m[2], `"'`); strings.Contains(value, withheld) || harmlessValue(value) {
			return all
		}
		quote := ""
		if m[2][0] == '"' || m[2][0] == '\'' {
			quote = m[2][:1]
		}
		return m[1] + quote + withheld + quote
	})
	var b strings.Builder
	at := 0
	for _, m := range long.FindAllStringIndex(text, -1) {
		if !random(text[m[0]:m[1]]) || checksum.MatchString(text[max(0, m[0]-7):m[0]]) ||
			checksumInside(text[m[0]:m[1]]) {
			continue
		}
		b.WriteString(text[at:m[0]] + withheld)
		at = m[1]
	}
	return b.String() + text[at:]
}

// checksumInside reports whether a run of characters is a checksum with its algorithm before it.
func checksumInside(s string) bool {
	for _, prefix := range []string{"sha1-", "sha256-", "sha384-", "sha512-"} {
		if strings.HasPrefix(s, prefix) {
			return true
		}
	}
	return false
}

// harmlessValue reports whether what stands behind a name like "token" is code or a plain word, not a secret:
// os.environ, args.token, None.
func harmlessValue(v string) bool {
	if _, err := strconv.ParseFloat(v, 64); err == nil {
		return true
	}
	word := true
	for _, c := range v {
		word = word && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c == '.' || c == '$')
	}
	return word && !random(v) &&
		(strings.ContainsAny(v, "._$") || slices.Contains([]string{"string", "String", "boolean", "Optional"}, v))
}

// withholdCommand replaces values of options and words that look like secrets.
func withholdCommand(command []string) (out []string, changed bool) {
	out = slices.Clone(command)
	for i, word := range out {
		name, value, joined := strings.Cut(word, "=")
		option := strings.HasPrefix(word, "-")
		switch {
		case i > 0 && joined && (option || !strings.ContainsAny(name, " /")) &&
			Secret(strings.ReplaceAll(name, "-", "_")) && value != "":
			out[i] = name + "=" + withheld
		case i > 0 && strings.HasPrefix(out[i-1], "-") && !strings.Contains(out[i-1], "=") &&
			secretOption(out[i-1]) && !option:
			out[i] = withheld
		default:
			out[i] = withoutSecrets(word)
		}
		changed = changed || out[i] != word
	}
	return out, changed
}

// secretOption reports whether an option takes a secret: --token, --api-key. --keys-per-epoch is none.
func secretOption(option string) bool {
	words := strings.FieldsFunc(strings.ToLower(option), func(r rune) bool { return r == '-' || r == '_' || r == '.' })
	last := ""
	if len(words) > 0 {
		last = words[len(words)-1]
	}
	return slices.Contains([]string{"token", "secret", "password", "passwd", "pass", "passphrase", "key", "credential",
		"credentials", "auth", "cookie", "apikey"}, last)
}

// withholdPatch leaves out files that hold secrets by custom and replaces what looks like one elsewhere. what names
// what was taken out.
func withholdPatch(patch string) (out string, what []string) {
	var b strings.Builder
	for _, part := range splitPatch(patch) {
		head, _, _ := strings.Cut(part, "\n")
		if name, ok := patchedFile(head); ok && secretFile(name) {
			b.WriteString("# " + withheld + " " + name + ": a file of that name may hold secrets\n")
			what = append(what, name)
			continue
		}
		if strings.Contains(part, "\nGIT binary patch\n") {
			b.WriteString(part)
			continue
		}
		clean := withoutSecrets(part)
		if clean != part {
			name, _ := patchedFile(head)
			what = append(what, "a value in "+name)
		}
		b.WriteString(clean)
	}
	return b.String(), what
}

// splitPatch cuts a patch where a file begins.
func splitPatch(patch string) (parts []string) {
	for patch != "" {
		next := strings.Index(patch[1:], "\ndiff --git ")
		if next < 0 {
			return append(parts, patch)
		}
		parts, patch = append(parts, patch[:next+2]), patch[next+2:]
	}
	return parts
}

// patchedFile is the file of a line "diff --git a/NAME b/NAME".
func patchedFile(head string) (string, bool) {
	rest, ok := strings.CutPrefix(head, "diff --git ")
	if !ok {
		return "", false
	}
	_, name, ok := strings.Cut(rest, " b/")
	if !ok {
		_, name, ok = strings.Cut(rest, `"b/`)
	}
	return strings.Trim(name, `"`), ok
}

// bareRemote is the address of a repository without user, password, query and fragment; "" where it cannot be told what
// is what.
func bareRemote(remote string) string {
	if remote == "" || strings.ContainsAny(remote, " \t\n\\") {
		return ""
	}
	if strings.Contains(remote, "://") {
		u, err := url.Parse(remote)
		if err != nil || u.Host == "" && u.Scheme != "file" {
			return ""
		}
		return (&url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}).String()
	}
	if host, where, ok := strings.Cut(remote, ":"); ok && !strings.Contains(host, "/") { // user@host:path
		if at := strings.LastIndexByte(host, '@'); at >= 0 {
			host = host[at+1:]
		}
		if host == "" || strings.ContainsAny(where, "@?#") || strings.ContainsAny(host, ":@?#") {
			return ""
		}
		return host + ":" + where
	}
	if strings.ContainsAny(remote, "@?#") {
		return ""
	}
	return remote // a folder
}

// withholdRecipe takes out of a recipe what looks like a secret, and says what that was.
func withholdRecipe(r *api.Recipe) {
	var changed bool
	if r.Command, changed = withholdCommand(r.Command); changed {
		r.Withheld = append(r.Withheld, "command")
	}
	for name, v := range r.Environment {
		if clean := withoutSecrets(v); clean != v {
			r.Environment[name] = clean
			r.Withheld = append(r.Withheld, "environment "+name)
		}
	}
	slices.Sort(r.Withheld)
	var what []string
	if r.Changes, what = withholdPatch(r.Changes); len(what) > 0 {
		for _, each := range what {
			r.Withheld = append(r.Withheld, "changes: "+each)
		}
		r.Changes = "# " + withheld +
			" Secrets were taken out of this patch: it cannot be applied as it is.\n" + r.Changes
	}
}
