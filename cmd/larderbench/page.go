package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"
)

// The tables of a page are written between these lines.
const (
	pageBegins = "<!-- make bench writes what follows -->\n"
	pageEnds   = "<!-- up to here -->\n"
)

// writePage puts the tables of a run in the place of those that a page has, and leaves the rest of it alone.
func (r *Results) writePage(file string) error {
	return rewrite(file, pageBegins, r.markdown)
}

// rewrite puts what write gives in the place of what a page has between a line and the next that ends such a part.
func rewrite(file, begins string, write func(*bytes.Buffer)) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	before, rest, ok := bytes.Cut(text, []byte(begins))
	_, after, ok2 := bytes.Cut(rest, []byte(pageEnds))
	if !ok || !ok2 {
		return fmt.Errorf("%s: the lines %q and %q are missing, between which the tables are written", file, begins, pageEnds)
	}
	var page bytes.Buffer
	page.Write(before)
	page.WriteString(begins + "\n")
	write(&page)
	page.WriteString("\n" + pageEnds)
	page.Write(after)
	return os.WriteFile(file, page.Bytes(), 0o644)
}

func (r *Results) markdown(w *bytes.Buffer) {
	fmt.Fprintf(w, "%s\n\n| | ratio | median | 8 in 10 rounds | of all rounds | aim | |\n|---|---|---|---|---|---|---|\n", wrapped(r.Machine+"."))
	last := ""
	for _, x := range r.Ratios {
		fmt.Fprintf(w, "| %s | %s / %s | %.2f | %.2f to %.2f | %.2f to %.2f | %s | %s |\n", unlessSame(&last, x.Case), x.What, x.Against, x.Median,
			quantile(x.Rounds, 0.1), quantile(x.Rounds, 0.9), x.Low, x.High, x.Aim, strings.ToLower(action(x.Met)))
	}
	w.WriteString("\n| | figure | | aim | |\n|---|---|---|---|---|\n")
	last = ""
	for _, x := range r.Figures {
		fmt.Fprintf(w, "| %s | %s, %s | %s | %s | %s |\n", unlessSame(&last, x.Case), x.What, x.Unit, short(x.Value), x.Aim, strings.ToLower(action(x.Met)))
	}
	r.byHand(w)
}

// wrapped breaks a paragraph into lines as long as the documents' are.
// Only blanks are places to break: names of systems have hyphens.
func wrapped(text string) string {
	var out strings.Builder
	length := 0
	for i, word := range strings.Fields(text) {
		switch {
		case i > 0 && length+1+len(word) > 100:
			out.WriteByte('\n')
			length = 0
		case i > 0:
			out.WriteByte(' ')
			length++
		}
		out.WriteString(word)
		length += len(word)
	}
	return out.String()
}

// byHand writes what came of the demo's reads.
func (r *Results) byHand(w *bytes.Buffer) {
	if len(r.ByHand) == 0 {
		return
	}
	fmt.Fprintf(w, "\nThe demo's traffic on PostgreSQL, %s in each way, with results cached for %s at most:\n\n", byHandLength, byHandTTL)
	w.WriteString("| its reads are answered by | reads | not by the database | p50, ms | p99, ms | stale answers seen | lines in the application |\n|---|---|---|---|---|---|---|\n")
	for _, x := range r.ByHand {
		fmt.Fprintf(w, "| %s | %s | %.0f %% | %.3f | %.3f | %s | %d |\n", x.Way, grouped(int64(x.Reads)), x.share()*100, x.Median.Seconds()*1e3, x.P99.Seconds()*1e3,
			grouped(int64(x.Stale)), x.Lines)
	}
}

// unlessSame gives a case's name where it is another than that of the line before.
func unlessSame(last *string, name string) string {
	if name == *last {
		return ""
	}
	*last = name
	return name
}

// short writes a number with three digits that count.
func short(v float64) string {
	switch {
	case v == 0:
		return "0"
	case v >= 100:
		return grouped(int64(v + 0.5))
	case v >= 10:
		return fmt.Sprintf("%.1f", v)
	case v >= 1:
		return fmt.Sprintf("%.2f", v)
	}
	return fmt.Sprintf("%.2g", v)
}

// grouped writes a number with its thousands apart.
func grouped(n int64) string {
	s := fmt.Sprint(n)
	for at := len(s) - 3; at > 0; at -= 3 {
		s = s[:at] + "," + s[at:]
	}
	return s
}

// machine says what was measured, when and where.
func machine() string {
	kernel := "another system than Linux"
	if text, err := os.ReadFile("/proc/sys/kernel/osrelease"); err == nil {
		kernel = "Linux " + strings.TrimSpace(string(text))
	}
	processor := runtime.GOARCH
	if text, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for line := range strings.Lines(string(text)) {
			if name, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(name) == "model name" {
				processor = strings.TrimSpace(value)
				break
			}
		}
	}
	commit := "an unknown commit"
	if out, err := exec.Command("git", "rev-parse", "--short", "HEAD").Output(); err == nil {
		commit = "commit " + strings.TrimSpace(string(out))
		if out, err := exec.Command("git", "status", "--porcelain", "--untracked-files=no", "--", "*.go", "go.mod").Output(); err != nil || len(out) > 0 {
			commit += " with changes"
		}
	}
	return fmt.Sprintf("At %s, on %s: %d cores (%s), %s, %s",
		commit, time.Now().Format("2006-01-02"), runtime.NumCPU(), processor, kernel, runtime.Version())
}
