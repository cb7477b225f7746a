package web

import (
	"io"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"wexter/report"
)

// Body limits, by what a form carries, in bytes.
const (
	formLimit   = 1 << 20
	scanLimit   = 3 << 20
	photoLimit  = 14 << 20
	logLimit    = 66 << 20 // a log of 64 MB with its form
	bundleLimit = report.MaxBytes + 1<<20
	hearOut     = 64 << 20 // of what is refused for its size
)

// route is one address: what answers there, and how much it takes.
type route struct {
	method, path string
	do           echo.HandlerFunc
	limit        int64 // of the body; 0 is formLimit
}

func get(path string, do echo.HandlerFunc) route {
	return route{method: http.MethodGet, path: path, do: do}
}

func post(path string, do echo.HandlerFunc) route {
	return route{method: http.MethodPost, path: path, do: do, limit: formLimit}
}

// upTo lets a form carry more than words.
func (r route) upTo(limit int64) route {
	r.limit = limit
	return r
}

// routes is every address of the application.
func (s *server) routes() []route {
	return slices.Concat(s.shopRoutes(), s.caseRoutes(), s.testRoutes())
}

// shopRoutes are the addresses that belong to no case.
func (s *server) shopRoutes() []route {
	return []route{
		get("/", s.slate),
		get("/record", s.record),
		get("/book", s.book),
		post("/book/codes", s.giveMeaning),
		get("/book/test/:key", s.procedure),
		get("/book/:key", s.calculator),
		get("/vehicles", s.vehicle),
		get("/suggest", s.suggest),
		get("/cases/new", s.newCase),
		post("/cases", s.openCase),
		post("/import", s.importBundle).upTo(bundleLimit),
		post("/kit", s.shopKit),
		post("/demo-car", s.openDemoCar),
		get("/ways", s.waysView),
		post("/ways", s.saveWays),
		get("/scans/:id", s.scanView),
		get("/scans/:id/raw.txt", s.rawScan),
		get("/instruments", s.instruments),
		post("/instruments", s.addInstrument),
		post("/instruments/start", s.startBench),
		post("/instruments/remove", s.removeInstrument),
		get("/instruments/stream", s.instrumentStream),
		get("/instruments/:id", s.instrumentView),
		post("/instruments/:id", s.setInstrument),
		post("/instruments/:id/zero", s.zeroInstrument),
		get("/photos/:hash", s.photo),
		get("/second", s.second),
		get("/alive", s.alive),
	}
}

// caseRoutes are those of a case and its car.
func (s *server) caseRoutes() []route {
	return []route{
		get("/cases/:id", s.caseView),
		post("/cases/:id/arrived", s.arrived),
		post("/cases/:id/who", s.takeOn),
		post("/cases/:id/year", s.settleYear),
		get("/cases/:id/edit", s.editView),
		post("/cases/:id/edit", s.edit),
		post("/cases/:id/codes", s.addCodes),
		get("/cases/:id/do/:test", s.doView),
		post("/cases/:id/benches", s.startLive),
		post("/cases/:id/drives", s.addDrive).upTo(logLimit),
		post("/cases/:id/do/:test", s.addResult),
		post("/cases/:id/observe", s.observe),
		post("/cases/:id/unread", s.unread),
		post("/cases/:id/kit", s.caseKit),
		post("/cases/:id/cause", s.cause),
		post("/cases/:id/opened", s.postMortem).upTo(photoLimit),
		get("/cases/:id/pulse", s.pulse),
		post("/cases/:id/strike", s.strike),
		post("/cases/:id/doubt", s.doubt),
		post("/cases/:id/notes", s.addNote).upTo(photoLimit),
		get("/cases/:id/scan", s.scanForm),
		post("/cases/:id/scan", s.addScan).upTo(scanLimit),
		post("/cases/:id/scan/take", s.takeScan),
		get("/cases/:id/scan/progress", s.scanProgress),
		post("/cases/:id/scan/stop", s.stopScan),
		post("/cases/:id/clear", s.clearCodes),
		get("/cases/:id/car", s.carView),
		get("/cases/:id/car/stream", s.carStream),
		post("/cases/:id/car/do", s.carDo),
		post("/cases/:id/wait", s.wait),
		post("/cases/:id/tests", s.startTest),
		get("/cases/:id/map", s.mapView),
		get("/cases/:id/map.svg", s.mapSVG),
		post("/cases/:id/marks", s.addMark).upTo(photoLimit),
		post("/cases/:id/corrections", s.addCorrection).upTo(photoLimit),
		post("/cases/:id/cards", s.addCard).upTo(photoLimit),
		post("/cases/:id/car/strike", s.strikeOnCar),
		post("/cases/:id/plumbing", s.setPlumbing),
		get("/cases/:id/values", s.valuesView),
		post("/cases/:id/values", s.addValue),
		post("/cases/:id/values/strike", s.strikeValue),
		get("/cases/:id/found", s.foundView),
		post("/cases/:id/found", s.found).upTo(photoLimit),
		get("/cases/:id/repair", s.repairView),
		post("/cases/:id/repair", s.repair).upTo(photoLimit),
		post("/cases/:id/repair/:rid/done", s.repairDone),
		get("/cases/:id/proof", s.proofView),
		post("/cases/:id/trial", s.trial),
		post("/cases/:id/monitors", s.monitors),
		post("/cases/:id/close", s.close),
		get("/cases/:id/report", s.report),
		get("/cases/:id/report.pdf", s.reportPDF),
		get("/cases/:id/bundle.json", s.bundle),
	}
}

// testRoutes are those of a hold and its legs.
func (s *server) testRoutes() []route {
	return []route{
		get("/tests/:id/map", s.setupMap),
		post("/tests/:id/map", s.setPart),
		get("/tests/:id", s.bench),
		get("/tests/:id/live", s.liveBench),
		get("/tests/:id/live/stream", s.liveStream),
		get("/tests/:id/foretold", s.foretold),
		get("/tests/:id/bay", s.bayView),
		get("/runs/:id/replay", s.replayView),
		get("/runs/:id/replay.json", s.replayJSON),
		post("/tests/:id/live", s.liveAct).upTo(photoLimit),
		post("/tests/:id/setup", s.setup),
		get("/tests/:id/drive", s.drive),
		post("/tests/:id/keep", s.keepDrive),
		post("/tests/:id/displacement", s.sizeDrive),
		post("/tests/:id/legs", s.addLeg).upTo(logLimit),
		post("/tests/:id/cannot", s.cannot),
		post("/runs/:id/cut", s.cut),
		post("/runs/:id/strike", s.strikeRun),
		get("/runs/:id/readings.csv", s.readings),
	}
}

// limits are the body limits by the path of a route.
func (s *server) limits() map[string]int64 {
	out := map[string]int64{}
	for _, r := range s.routes() {
		if r.method == http.MethodPost {
			out[r.path] = r.limit
		}
	}
	return out
}

// limitBody refuses what is larger than its route takes. What goes nowhere is held to the
// limit of a form.
func (s *server) limitBody() echo.MiddlewareFunc {
	limits := s.limits()
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			limit, ok := limits[c.Path()]
			if !ok {
				limit = formLimit
			}
			if r.ContentLength > limit {
				// A browser that is still sending when the line is cut shows no sentence: hear it out,
				// within reason and without keeping anything.
				_, _ = io.CopyN(io.Discard, r.Body, hearOut)
				return &tooLarge{limit}
			}
			r.Body = http.MaxBytesReader(c.Response(), r.Body, limit)
			return next(c)
		}
	}
}
