package dialect

import (
	"fmt"
	"regexp"
	"strings"

	"pilotrix/core/expression"
	"pilotrix/core/source"
)

// Echo is something of an answer that repeats what was typed: a checksum that is given with its range is of that range,
// or of nothing that was asked for.
type Echo struct {
	Pattern source.Pattern `yaml:"pattern" jsonschema:"required" jsonschema_description:"What of the answer repeats it, with ( ) around it"`
	Is      string         `yaml:"is" jsonschema:"required" jsonschema_description:"What it has to be; may hold ${…}. A number is the same with 0x and noughts before it, and without"`
}

type compiledEcho struct {
	Echo
	pattern *regexp.Regexp
	is      *expression.Template
}

func (c *compiler) echoes(path string, echoes []Echo) (all []compiledEcho) {
	for i, echo := range echoes {
		at := fmt.Sprintf("%s.echoes[%d]", path, i)
		if echo.Pattern != "" && echo.Pattern.RE().NumSubexp() == 0 {
			c.complain(at+".pattern", "the pattern has no group: put ( ) around what is repeated")
			continue
		}
		all = append(all, compiledEcho{echo, echo.Pattern.RE(), c.template(at+".is", echo.Is)})
	}
	return all
}

// Repeats holds an answer of the reading to what it repeats of its command, which was typed with those names known.
func (r *CompiledReading) Repeats(command, answer string, env map[string]any) error {
	return repeated(r.echoes, command, answer, env)
}

// Repeats holds an answer to what it repeats of the command, which was typed with those names known.
func (w *CompiledWay) Repeats(command, answer string, env map[string]any) error {
	return repeated(w.echoes, command, answer, env)
}

func repeated(echoes []compiledEcho, command, answer string, env map[string]any) error {
	for _, echo := range echoes {
		want, err := echo.is.Render(env)
		if err != nil {
			return err
		}
		found := echo.pattern.FindStringSubmatch(answer)
		if found == nil {
			return fmt.Errorf("“%s” was answered without saying for what (looked for %s)", command, echo.Pattern)
		}
		if !sameArgument(found[1], want) {
			return fmt.Errorf("“%s” was answered for %s, and not for %s: it is the answer to something else", command,
				found[1], want)
		}
	}
	return nil
}

var aNumber = regexp.MustCompile(`^(?:0x)?0*([0-9a-f]+)$`)

// sameArgument compares what was typed with what was answered.
func sameArgument(a, b string) bool {
	a, b = strings.TrimSpace(a), strings.TrimSpace(b)
	if a == b {
		return true
	}
	x, y := aNumber.FindStringSubmatch(strings.ToLower(a)), aNumber.FindStringSubmatch(strings.ToLower(b))
	return x != nil && y != nil && x[1] == y[1]
}
