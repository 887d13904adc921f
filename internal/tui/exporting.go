package tui

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/chart"
	"jollylarder/internal/tui/dialog"
)

var keyExport = key.NewBinding(key.WithKeys("E"), key.WithHelp("E", "write the station's charts to a file, as SVG or PDF"))

// charts gives what the station that is shown draws.
func (a *App) charts() []*chart.Chart {
	return slices.DeleteFunc(a.at.Charts(), func(c *chart.Chart) bool { return c == nil || c.Empty() })
}

// askExport asks for the file to write the charts into.
func (a *App) askExport() {
	charts := a.charts()
	if len(charts) == 0 {
		a.say("There is nothing to draw here yet.", true)
		return
	}
	var titles []string
	for _, c := range charts {
		titles = append(titles, c.Title)
	}
	name := strings.ToLower(a.at.Name()) + "-" + time.Now().Format("2006-01-02-150405") + ".svg"
	a.dialog = dialog.NewForm("Write charts to a file", []string{strings.Join(titles, "; ") + ", as they are now."},
		[]dialog.Line{{Name: "file", Value: name, Help: "its extension is .svg or .pdf"}}, nil,
		func(v map[string]string) (tea.Cmd, error) {
			path := v["file"]
			if end := filepath.Ext(path); !slices.Contains(chart.Formats, end) {
				return nil, errors.New("the extension chooses the format: expected .svg or .pdf")
			}
			whole, err := filepath.Abs(path)
			if err != nil {
				return nil, err
			}
			return act(fmt.Sprintf("Written: %s", whole), func(context.Context) error { return chart.Single(charts...).WriteFile(path) }), nil
		})
}
