package dialect

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// What a line does that a shell takes (POSIX.1-2017, XCU §2): every simple command in it, wherever it stands, and why
// some of it cannot be read from here.

// GrammarShell is the grammar of a shell.
const GrammarShell = "sh"

// reads are the commands of one line as a shell reads them.
type reads struct {
	commands []string
	unread   string // why not all of them can be read, empty where they can
}

// readShell reads a line.
func readShell(line string) (r reads) {
	if text, recalls := recalled(line); recalls {
		r.cannot("“%s” recalls an earlier line", text)
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(line), "")
	if err != nil {
		r.cannot("it is no whole command: %s", strings.TrimPrefix(err.Error(), "1:"))
	}
	if file == nil {
		return r
	}
	piped := map[*syntax.Stmt]bool{}
	syntax.Walk(file, func(node syntax.Node) bool {
		switch node := node.(type) {
		case *syntax.BinaryCmd:
			if node.Op == syntax.Pipe || node.Op == syntax.PipeAll {
				piped[node.Y] = true
			}
		case *syntax.Stmt:
			r.redirections(node)
			if call, ok := node.Cmd.(*syntax.CallExpr); ok && (piped[node] || fed(node)) && namesShell(call) {
				r.cannot("a shell reads what it is given")
			}
		case *syntax.CallExpr:
			r.call(node)
		case *syntax.ArithmExp:
			r.within(line, node.Left, node.Right)
		case *syntax.ArithmCmd:
			r.within(line, node.Left, node.Right)
		}
		return true
	})
	return r
}

// within reads what stands in (( )) as commands, too: shells differ in which of the two they take it for.
func (r *reads) within(line string, left, right syntax.Pos) {
	from, to := int(left.Offset()), int(right.Offset())
	if from >= to || to > len(line) {
		return
	}
	_, text, _ := strings.Cut(line[from:to], "((")
	inner := readShell(text)
	for _, command := range inner.commands {
		r.add([]string{command})
	}
}

func (r *reads) cannot(why string, more ...any) {
	if r.unread == "" {
		r.unread = fmt.Sprintf(why, more...)
	}
}

func (r *reads) add(words []string) {
	if command := strings.Join(words, " "); command != "" && !slices.Contains(r.commands, command) {
		r.commands = append(r.commands, command)
	}
}

// redirections are looked at like commands: writing to a device is what it is written to.
func (r *reads) redirections(stmt *syntax.Stmt) {
	for _, redirection := range stmt.Redirs {
		if redirection.Word == nil {
			continue
		}
		target, known := literal(redirection.Word)
		if !known {
			target = "…"
		}
		r.add([]string{strings.TrimLeft(redirection.Op.String(), "0123456789"), target})
	}
}

// call reads one simple command, and those that it leads to.
func (r *reads) call(call *syntax.CallExpr) {
	if len(call.Args) == 0 {
		return
	}
	words := make([]string, len(call.Args))
	for n, word := range call.Args {
		text, known := literal(word)
		if !known {
			text = "…"
			if n == 0 {
				r.cannot("only the shell knows its command")
			}
		}
		words[n] = text
	}
	r.words(words, 0)
}

// maxNested is how deep commands are looked for within each other's words.
const maxNested = 8

func (r *reads) words(words []string, depth int) {
	if depth > maxNested {
		r.cannot("its commands are nested too deep")
		return
	}
	name := path.Base(words[0])
	if strings.ContainsAny(name, "*?[{") && name != "[" && name != "[[" {
		r.cannot("only the shell knows its command")
	}
	r.add(append([]string{name}, words[1:]...))
	switch {
	case slices.Contains([]string{"eval", "source", ".", "alias", "trap", "xargs", "parallel", "watch", "fc"}, name):
		r.cannot("“%s” carries out what is not seen here", name)
	case isShell(name):
		r.script(words[1:], depth)
	case slices.Contains(leads, name):
		for n := 1; n < len(words); n++ { // its own options are not known: whatever follows may be the command
			if words[n] == "…" {
				r.cannot("only the shell knows its command")
			} else if !strings.HasPrefix(words[n], "-") && !strings.Contains(words[n], "=") {
				r.words(words[n:], depth+1)
			}
		}
	case name == "find":
		for n, word := range words {
			if slices.Contains([]string{"-exec", "-execdir", "-ok", "-okdir"}, word) && n+1 < len(words) {
				r.words(words[n+1:], depth+1)
			}
		}
	}
}

// leads are commands that carry out the one after them.
var leads = []string{
	"sudo", "doas", "su", "busybox", "toybox", "env", "nohup", "exec", "command", "builtin", "nice", "ionice", "setsid",
	"time", "timeout", "chroot", "start-stop-daemon", "stdbuf", "unshare", "nsenter", "flock", "chrt", "taskset",
	"script", "coproc", "at", "batch",
}

func isShell(name string) bool {
	return slices.Contains([]string{"sh", "bash", "ash", "dash", "ksh", "zsh", "hush"}, path.Base(name))
}

// script reads what a shell is given to carry out.
func (r *reads) script(words []string, depth int) {
	for n, word := range words {
		switch {
		case strings.HasPrefix(word, "-") && strings.Contains(word, "c"):
			if n+1 == len(words) || words[n+1] == "…" {
				r.cannot("only the shell knows its command")
				return
			}
			inner := readShell(words[n+1])
			for _, command := range inner.commands {
				r.words(strings.Split(command, " "), depth+1)
			}
			if inner.unread != "" {
				r.cannot("%s", inner.unread)
			}
			return
		case !strings.HasPrefix(word, "-"):
			r.cannot("the script “%s” carries out what is not seen here", word)
			return
		}
	}
}

// namesShell reports whether a command is a shell, or leads to one.
func namesShell(call *syntax.CallExpr) bool {
	return slices.ContainsFunc(call.Args, func(word *syntax.Word) bool {
		name, _ := literal(word)
		return isShell(name)
	})
}

// fed reports whether a statement is given text to read.
func fed(stmt *syntax.Stmt) bool {
	return slices.ContainsFunc(stmt.Redirs, func(r *syntax.Redirect) bool {
		return slices.Contains([]syntax.RedirOperator{
			syntax.RdrIn, syntax.RdrInOut, syntax.Hdoc, syntax.DashHdoc, syntax.WordHdoc, syntax.DplIn,
		}, r.Op)
	})
}

// literal is a word without its quotes; known is false where the shell makes something of it that is not seen here.
func literal(word *syntax.Word) (text string, known bool) {
	var out strings.Builder
	known = true
	for _, part := range word.Parts {
		switch part := part.(type) {
		case *syntax.Lit:
			out.WriteString(unescaped(part.Value))
		case *syntax.SglQuoted:
			out.WriteString(part.Value)
			known = known && !part.Dollar // its escapes are not worked out here
		case *syntax.DblQuoted:
			for _, inner := range part.Parts {
				if lit, ok := inner.(*syntax.Lit); ok {
					out.WriteString(unescaped(lit.Value))
				} else {
					known = false
				}
			}
		default:
			known = false
		}
	}
	return out.String(), known
}

func unescaped(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) {
			i++
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

// recalled finds what a shell takes for an earlier line: ! with something after it, or ^ at the beginning.
func recalled(line string) (text string, recalls bool) {
	if strings.HasPrefix(strings.TrimSpace(line), "^") {
		return strings.TrimSpace(line), true
	}
	quoted := false
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '\'':
			quoted = !quoted
		case quoted:
		case line[i] == '\\':
			i++
		case line[i] == '!' && i+1 < len(line) && !strings.ContainsRune(" \t=(\"",
			rune(line[i+1])) && (i == 0 || line[i-1] != '$' && line[i-1] != '['):
			return strings.Fields(line[i:])[0], true
		}
	}
	return "", false
}
