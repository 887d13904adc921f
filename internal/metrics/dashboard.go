package metrics

import "encoding/json"

// panel is one drawing of the dashboard: what it answers, in which unit, and by what.
type panel struct {
	title, says string
	unit        string
	kind        string // timeseries or stat
	stacked     bool
	lines       []line
}

// line is one query of a panel, with how its series are called.
type line struct {
	of     query
	called string
}

var panels = []panel{
	{title: "Time saved", says: "What clients waited in each minute, and what hits saved of it.", unit: "s", kind: "timeseries", stacked: true, lines: []line{
		{ask(`sum(delta(%s[5m])) / 5`, saved), "saved a minute"}, {ask(`sum(rate(%s[5m])) * 60`, waited), "waited a minute"},
	}},
	{title: "Hit rate", says: "The share of statements answered from memory, by application.", unit: "percentunit", kind: "timeseries", lines: []line{
		{ask(`sum by (application) (rate(%s{outcome="hit"}[5m])) / sum by (application) (rate(%s[5m]))`, statements, statements), "{{application}}"},
	}},
	{title: "Statements", says: "By what became of them.", unit: "reqps", kind: "timeseries", stacked: true, lines: []line{
		{ask(`sum by (outcome) (rate(%s[5m]))`, statements), "{{outcome}}"},
	}},
	{title: "Reply times, 99% of replies", says: "From memory, and from the origin. Needs native histograms in Prometheus.", unit: "s", kind: "timeseries", lines: []line{
		{ask(`histogram_quantile(0.99, sum by (source) (rate(%s[5m])))`, answerSeconds), "{{source}}"},
	}},
	{title: "The origin now", says: "What the origin takes for control samples on average.", unit: "s", kind: "timeseries", lines: []line{
		{ask(`rate(%s_sum[1h]) / rate(%s_count[1h])`, sampleSeconds, sampleSeconds), "control samples"},
	}},
	{title: "Stale answers", says: "Found by control samples since the larder started. It must stay 0.", unit: "none", kind: "stat", lines: []line{
		{ask(`sum(%s{result="stale"})`, samples), "stale"},
	}},
	{title: "Memory", says: "What cached results use, and what they may use.", unit: "bytes", kind: "timeseries", lines: []line{
		{ask(`%s`, bytesUsed), "used"}, {ask(`%s`, limit), "limit"},
	}},
	{title: "What became of results", says: "In each second: cached, and ended by eviction, by their TTL, or never used.", unit: "ops", kind: "timeseries", lines: []line{
		{ask(`rate(%s[5m])`, stored), "cached"}, {ask(`rate(%s[5m])`, evicted), "evicted"}, {ask(`rate(%s[5m])`, expired), "TTL ended"}, {ask(`rate(%s[5m])`, unused), "never used"},
	}},
	{title: "Dropped by writes", says: "Results dropped in each second, by table.", unit: "ops", kind: "timeseries", stacked: true, lines: []line{
		{ask(`topk(10, sum by (table) (rate(%s[5m])))`, drops), "{{table}}"},
	}},
	{title: "Saved by rule", says: "In each minute. A rule below 0 costs more than it saves.", unit: "s", kind: "timeseries", lines: []line{
		{ask(`delta(%s[5m]) / 5`, savedByRule), "{{rule}}"},
	}},
	{title: "Chosen by the larder", says: "How many patterns the larder caches within advised rules.", unit: "none", kind: "timeseries", lines: []line{
		{ask(`%s`, chosen), "{{rule}}"},
	}},
	{title: "Change feed", says: "How long after its commit a direct write is known.", unit: "s", kind: "timeseries", lines: []line{
		{ask(`%s`, lag), "{{origin}}/{{database}}"},
	}},
	{title: "Clients", says: "Connected to the larder.", unit: "none", kind: "timeseries", lines: []line{{ask(`%s`, clients), "clients"}}},
}

// The grid that panels are laid out on: its width in columns, and the width and height of a panel.
const (
	gridWidth, panelWidth, panelHeight = 24, 12, 8
)

// Dashboard gives a dashboard of all that is worth a look, in the JSON that Grafana imports.
func Dashboard() []byte {
	type object = map[string]any
	source := object{"type": "prometheus", "uid": "${source}"}
	var drawn []object
	for i, p := range panels {
		var targets []object
		for j, l := range p.lines {
			targets = append(targets, object{"datasource": source, "expr": l.of.String(), "legendFormat": l.called, "refId": string(rune('A' + j))})
		}
		custom := object{"fillOpacity": 10, "showPoints": "never"}
		if p.stacked {
			custom = object{"fillOpacity": 30, "showPoints": "never", "stacking": object{"mode": "normal"}}
		}
		x := object{
			"id": i + 1, "type": p.kind, "title": p.title, "description": p.says, "datasource": source, "targets": targets,
			"gridPos":     object{"x": i * panelWidth % gridWidth, "y": i * panelWidth / gridWidth * panelHeight, "w": panelWidth, "h": panelHeight},
			"fieldConfig": object{"defaults": object{"unit": p.unit, "custom": custom}, "overrides": []object{}},
		}
		if p.kind == "timeseries" {
			x["options"] = object{"legend": object{"displayMode": "list", "placement": "bottom"}, "tooltip": object{"mode": "multi"}}
		}
		drawn = append(drawn, x)
	}
	out, _ := json.MarshalIndent(object{
		"title": "Jolly Larder", "uid": "jolly-larder", "tags": []string{"database"}, "schemaVersion": 39, "version": 1, "refresh": "30s",
		"time": object{"from": "now-6h", "to": "now"}, "timezone": "", "editable": true, "annotations": object{"list": []object{}}, "panels": drawn,
		"templating": object{"list": []object{{"name": "source", "label": "Prometheus", "type": "datasource", "query": "prometheus"}}},
	}, "", "  ")
	return append(out, '\n')
}
