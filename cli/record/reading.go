package record

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kembrel/cli/term"
	"kembrel/recorder/protocol"
)

// readingTime is how long the recorder may take to keep a reading. It answers at once, also while its disk is full.
const readingTime = 10 * time.Second

// Reading records from a script. What goes wrong is said and is no failure, so that it never ends a script that ends
// with the first command which fails.
func (a *Commands) Reading() *cobra.Command {
	var step, epoch string
	cmd := &cobra.Command{Use: "reading [--step N] [--epoch E] NAME=VALUE...",
		Short: "Record readings from a script that runs under a recorder",
		Long: `Record readings from a script that runs under kembrel record. Without --step a whole epoch stands for it. What goes wrong is said on the error
output and left on the run; the exit code is 0 unless the command itself is wrong, so that it never ends the script.`,
		Example: `  kembrel record --project vessels -- sh -c 'for e in 1 2 3; do ./train.sh $e; kembrel reading --epoch $e loss.val=$(./evaluate.sh); done'
  kembrel reading --step 480 --epoch 12 loss.train=0.31 loss.val=0.4127`,
		Args: cobra.MinimumNArgs(1),
		// it needs no settings, and nothing of theirs may keep it from recording
		PersistentPreRunE: func(*cobra.Command, []string) error { return nil },
		RunE: func(_ *cobra.Command, args []string) error {
			if step == "" && epoch == "" {
				return term.Usage("say where the readings stand: --step 480, --epoch 12 or both")
			}
			if err := sendReading(step, epoch, args); err != nil {
				fmt.Fprintf(a.Err, "kembrel: not recorded: %v\n", err)
			}
			return nil
		}}
	cmd.Flags().StringVar(&step, "step", "", "step of the readings, a whole number that never falls")
	cmd.Flags().StringVar(&epoch, "epoch", "", "their epoch")
	return cmd
}

func sendReading(step, epoch string, args []string) error {
	socket := os.Getenv(protocol.Variable)
	if socket == "" {
		return fmt.Errorf("no recorder is around; scripts are started by kembrel record")
	}
	values := map[string]json.RawMessage{}
	for _, arg := range args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok {
			return fmt.Errorf("%.100q is not NAME=VALUE, such as loss.val=0.41", arg)
		}
		values[name] = asNumber(value)
	}
	message := map[string]any{"kind": protocol.Readings, "id": 1, "values": values}
	if step != "" {
		message["step"] = asNumber(step)
	}
	if epoch != "" {
		message["epoch"] = asNumber(epoch)
	}
	line, err := json.Marshal(message)
	if err != nil {
		return err
	}
	conn, err := net.DialTimeout("unix", socket, readingTime)
	if err != nil {
		return fmt.Errorf("the recorder does not answer: %w", err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(readingTime))
	if _, err := conn.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("the recorder does not take it: %w", err)
	}
	var problem error
	for lines := bufio.NewScanner(conn); lines.Scan(); {
		var r protocol.Reply
		switch err := json.Unmarshal(lines.Bytes(), &r); {
		case err != nil:
		case r.Kind == "problem":
			problem = fmt.Errorf("%s", r.What)
			if r.ID == 1 {
				return problem
			}
		case r.Kind == "kept" || r.Kind == "held":
			return problem // in memory at least
		}
	}
	return fmt.Errorf("the recorder did not answer")
}

// asNumber is a value as the recorder is told it: a number of JSON or, where it is none, a text, which the recorder
// judges.
func asNumber(text string) json.RawMessage {
	text = strings.TrimSpace(text)
	switch strings.ToLower(strings.TrimLeft(text, "+-")) {
	case "nan":
		return json.RawMessage(`"NaN"`)
	case "inf", "infinity":
		if strings.HasPrefix(text, "-") {
			return json.RawMessage(`"-Infinity"`)
		}
		return json.RawMessage(`"Infinity"`)
	}
	var n json.Number
	if plain := strings.TrimPrefix(text, "+"); json.Unmarshal([]byte(plain), &n) == nil &&
		!strings.HasPrefix(plain, `"`) {
		return json.RawMessage(plain)
	}
	quoted, _ := json.Marshal(text)
	return quoted
}
