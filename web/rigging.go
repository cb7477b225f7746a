package web

import (
	"fmt"
	"html/template"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/report"
)

// setUpView is a drawing of how this car stands for a stretch of a test, and what its
// numbers stand for.
type setUpView struct {
	SVG   template.HTML
	Tools []string
	Calls []report.Call
}

// mostSetUps is how many drawings a test has at most: the first ones.
const mostSetUps = 3

// setUps draws how a car stands for a test of the Book: where the gauge is joined, what is
// plugged and powered; a further drawing wherever that changes.
func setUps(t knowledge.Test, car casework.Car, site bench.Site) (out []setUpView) {
	site.Graph = car.Graph
	for _, x := range bench.For(t).Setups(site) {
		d := report.SetUp{Graph: car.Graph, Sheet: car.Sheet(), Title: t.Name, Settings: x.Set}
		v := setUpView{}
		for _, tool := range x.Tools {
			d.Tools = append(d.Tools, report.Tool{Part: tool.At, Name: tool.Name})
			p, _ := car.Graph.Part(tool.At)
			v.Tools = append(v.Tools, fmt.Sprintf("%s at the %s", casework.Upper(tool.Name), plumbing.Lower(p.Name)))
		}
		if v.Calls, v.SVG = d.Calls(), template.HTML(d.SVG()); v.SVG != "" && len(out) < mostSetUps {
			out = append(out, v)
		}
	}
	return out
}
