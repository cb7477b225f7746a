package web

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/obd"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/instrument"
)

// job is a scan that is being taken.
type job struct {
	mu     sync.Mutex
	caseID string
	say    string
	done   bool
	failed string
	scan   string
	count  int
	cancel context.CancelFunc
	began  time.Time
}

// jobs are the scans under way, by case: one at a time each.
type jobs struct {
	mu   sync.Mutex
	list map[string]*job
}

type scanPage struct {
	caseData
	Adapters []record.Device
	Others   []record.Device // of other cars, folded
	Job      bool
}

// scanView is a scan as it is read.
type scanView struct {
	caseData
	Scan     evidence.ScanFolder
	Codes    []codeView
	Monitors []monitorView
	Live     []valueView
	Others   []unitView
	Freeze   []freezeView
	Since    obd.Clearing
	Trims    []trimRow
	Newest   bool
	MayClear string // why not; empty when it may
	Adapters []record.Device
}

type codeView struct {
	evidence.CodeLine
	Here []obd.CodeStatus // statuses in this scan
}

type monitorView struct{ Name, State, Trip string }

type valueView struct {
	PID, Name, Value, Unit string
	Part                   bool
}

type unitView struct {
	ECU    string
	Values []valueView
}

type freezeView struct {
	obd.Freeze
	Trims  []trimRow
	Values []valueView
}

func (s *server) scanForm(c *echo.Context) error { return s.showScanForm(c, nil) }

func (s *server) showScanForm(c *echo.Context, failed error) error {
	ctx := c.Request().Context()
	d, err := s.caseData(ctx, c.Param("id"))
	if err != nil {
		return err
	}
	v := scanPage{caseData: d}
	if v.Adapters, err = s.shop.DevicesFor(ctx, record.Adapter, d.Case.Number); err != nil {
		return err
	}
	if v.Others, err = s.shop.Devices(ctx, record.Adapter); err != nil {
		return err
	}
	v.Others = slices.DeleteFunc(v.Others, func(a record.Device) bool {
		return slices.ContainsFunc(v.Adapters, func(b record.Device) bool { return b.ID == a.ID })
	})
	if j := s.jobs.of(d.Case.ID); j != nil {
		v.Job = true
	}
	p := s.page(c, "Scan · "+d.Case.Number, "slate", v)
	if failed != nil {
		return s.again(c, failed, "scanform.html", p)
	}
	return s.render(c, http.StatusOK, "scanform.html", p)
}

func (s *server) addScan(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	raw, source := f.text("raw"), "pasted"
	if data, name := f.file("file", ingest.MaxHexBytes); data != nil {
		raw, source = strings.ToValidUTF8(string(data), "\uFFFD"), name
	}
	err := f.err
	if err == nil && raw == "" {
		err = &casework.Problem{Sentence: "Paste what the car answered, or choose a file with it."}
	}
	id := ""
	if err == nil {
		id, err = s.shop.AddScan(c.Request().Context(), f.key(), c.Param("id"), source, raw)
	}
	if err != nil {
		return s.showScanForm(c, err)
	}
	return s.saved(c, f.key(), "/scans/"+id)
}

func (j *jobs) of(caseID string) *job {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.list[caseID]
}

// takeScan reads a car through an adapter, in the background; the page shows how far
// it is and can stop it.
func (s *server) takeScan(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	id := c.Param("id")
	d, err := s.shop.Device(c.Request().Context(), "adapter", f.text("adapter"))
	if err != nil {
		return s.showScanForm(c, err)
	}
	folder, err := s.shop.Load(c.Request().Context(), id)
	if err != nil {
		return err
	}
	if folder.Case.Stage == record.Closed {
		return s.showScanForm(c, &casework.Problem{Sentence: "This case is closed; open a new one for this car."})
	}
	s.jobs.mu.Lock()
	if old := s.jobs.list[id]; old == nil || old.over() {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
		j := &job{caseID: id, say: "calling the adapter", cancel: cancel, began: time.Now()}
		s.jobs.list[id] = j
		go s.scan(ctx, j, d)
	}
	s.jobs.mu.Unlock()
	return c.Redirect(http.StatusSeeOther, "/cases/"+id+"/scan")
}

func (j *job) over() bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.done
}

func (s *server) scan(ctx context.Context, j *job, d record.Device) {
	defer j.cancel()
	stop := make(chan struct{})
	defer close(stop)
	go func() { // Wexter is closing: let the adapter go
		select {
		case <-s.hub.Done():
			j.cancel()
		case <-stop:
		}
	}()
	end := func(scan, failed string) {
		j.mu.Lock()
		j.done, j.scan, j.failed = true, scan, failed
		j.mu.Unlock()
	}
	a, err := s.reach.Scanner(ctx, d)
	if err != nil {
		end("", casework.Upper(err.Error())+".")
		return
	}
	defer a.Close()
	raw, err := instrument.TakeScan(ctx, a, func(say string) {
		j.mu.Lock()
		j.say, j.count = say, j.count+1
		j.mu.Unlock()
	})
	broken := ""
	if err != nil {
		broken = casework.Sentence(err.Error())
	}
	// What came before it broke off is kept, when something did.
	id, keepErr := s.shop.AddScan(context.WithoutCancel(ctx), "", j.caseID, d.Name, raw)
	if keepErr != nil {
		if broken == "" {
			broken = casework.Upper(keepErr.Error())
		}
		end("", broken)
		return
	}
	end(id, broken)
}

// scanProgress tells the page how far a scan is.
func (s *server) scanProgress(c *echo.Context) error {
	j := s.jobs.of(c.Param("id"))
	if j == nil {
		return c.JSON(http.StatusOK, map[string]any{"done": true})
	}
	j.mu.Lock()
	out := map[string]any{"say": j.say, "count": j.count, "done": j.done, "failed": j.failed, "scan": j.scan, "seconds": int(time.Since(j.began).Seconds())}
	over := j.done
	j.mu.Unlock()
	if over {
		s.jobs.mu.Lock()
		if s.jobs.list[j.caseID] == j {
			delete(s.jobs.list, j.caseID)
		}
		s.jobs.mu.Unlock()
	}
	return c.JSON(http.StatusOK, out)
}

func (s *server) stopScan(c *echo.Context) error {
	if j := s.jobs.of(c.Param("id")); j != nil {
		j.cancel()
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+c.Param("id")+"/scan")
}

func (s *server) scanView(c *echo.Context) error { return s.showScan(c, c.Param("id"), nil) }

func (s *server) showScan(c *echo.Context, id string, failed error) error {
	ctx := c.Request().Context()
	caseID, err := s.shop.ScanCase(ctx, id)
	if err != nil {
		return err
	}
	d, err := s.caseData(ctx, caseID)
	if err != nil {
		return err
	}
	v := scanView{caseData: d}
	for i, x := range d.Scans {
		if x.ID == id {
			v.Scan, v.Newest = x, i == len(d.Scans)-1
		}
	}
	r := v.Scan.Read
	for _, l := range d.CodeHistory() {
		cv := codeView{CodeLine: l}
		for _, x := range r.Codes {
			if x.Code == l.Code && !slices.Contains(cv.Here, x.Status) {
				cv.Here = append(cv.Here, x.Status)
			}
		}
		if len(cv.Here) > 0 {
			v.Codes = append(v.Codes, cv)
		}
	}
	diesel := slices.ContainsFunc([]string{"nmhc_catalyst", "nox", "boost", "exhaust_sensor", "particulate_filter"}, func(k string) bool { return r.Readiness[k] != "" })
	for _, k := range obd.Monitors(diesel) {
		if st := r.Readiness[k]; st == obd.Complete || st == obd.Incomplete {
			v.Monitors = append(v.Monitors, monitorView{obd.MonitorWords[k], st, r.ThisTrip[k]})
		}
	}
	v.Live, v.Trims = values(r.Live), trimsOf(r.Live)
	for _, u := range r.Units {
		if o := r.Others[u]; o != nil {
			v.Others = append(v.Others, unitView{u, values(o)})
		}
	}
	for _, f := range r.Freeze {
		v.Freeze = append(v.Freeze, freezeView{f, trimsOf(f.Data), values(f.Data)})
	}
	v.Since = r.Since(v.Scan.At.Local())
	v.MayClear = d.MayClear()
	if v.Adapters, err = s.shop.DevicesFor(ctx, record.Adapter, d.Case.Number); err != nil {
		return err
	}
	p := s.page(c, "Scan · "+d.Case.Number, "slate", v)
	if failed != nil {
		return s.again(c, failed, "scan.html", p)
	}
	return s.render(c, http.StatusOK, "scan.html", p)
}

// values lists quantities in the order of their PIDs, parts behind them; pressures of
// the EVAP system with the technician's unit beside.
func values(m map[string]obd.Value) (out []valueView) {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		x := m[k]
		one := valueView{PID: k, Name: x.Name, Value: figure(x.Value), Unit: x.Unit}
		if x.Text != "" {
			one.Value = x.Text
		}
		switch k {
		case "32", "54":
			one.Value, one.Unit = fmt.Sprintf("%.2f", x.Value/units.InH2O), fmt.Sprintf("inH2O, %.3f kPa", x.Value/1e3)
		}
		out = append(out, one)
		for _, p := range x.Parts {
			value := figure(p.Value)
			if p.Text != "" {
				value = p.Text
			}
			out = append(out, valueView{"", p.Name, value, p.Unit, true})
		}
	}
	return out
}

// figure writes a reading with three figures, or all of a large one.
func figure(x float64) string {
	if math.Abs(x) >= 100 {
		return fmt.Sprintf("%.0f", x)
	}
	return fmt.Sprintf("%.3g", x)
}

// rawScan sends a scan's text back as it was read.
func (s *server) rawScan(c *echo.Context) error {
	caseID, err := s.shop.ScanCase(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	f, err := s.shop.Load(c.Request().Context(), caseID)
	if err != nil {
		return err
	}
	for _, x := range f.Scans {
		if x.ID == c.Param("id") {
			c.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", safeName(f.Case.Number+"-scan-"+x.ID[:8])+".txt"))
			return c.Blob(http.StatusOK, "text/plain; charset=utf-8", []byte(x.Raw))
		}
	}
	return casework.ErrNotFound
}

// clearCodes clears through an adapter, or writes down that it was done with another
// tool. Either only after a scan was saved.
func (s *server) clearCodes(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		folder, err := s.shop.Load(ctx, id)
		if err != nil {
			return err
		}
		if folder.Case.Stage == record.Closed {
			return &casework.Problem{Sentence: "This case is closed; open a new one for this car."}
		}
		if why := folder.MayClear(); why != "" {
			return &casework.Problem{Sentence: why}
		}
		if f.text("sure") == "" {
			return &casework.Problem{Sentence: "Tick that you have read what clearing erases."}
		}
		words := "with another tool"
		if address := f.text("adapter"); address != "" {
			d, err := s.shop.Device(ctx, "adapter", address)
			if err != nil {
				return err
			}
			wait, cancel := context.WithTimeout(ctx, s.within(20*time.Second))
			defer cancel()
			a, err := s.reach.Scanner(wait, d)
			if err == nil {
				err = instrument.Clear(wait, a)
				a.Close()
			}
			if err != nil {
				return &casework.Problem{Sentence: err.Error() + ". Nothing was written down."}
			}
			words = "through " + d.Name
		}
		return s.shop.AddNote(ctx, f.key(), id, casework.NewNote{Kind: record.Cleared, Text: words})
	})
}

func (s *server) addNote(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		n := casework.NewNote{Kind: record.NoteKind(f.text("kind")), Subject: f.text("subject"), Text: f.text("words"), Photo: f.photo()}
		if f.err != nil {
			return f.err
		}
		return s.shop.AddNote(ctx, f.key(), id, n)
	})
}

func photoRecord(p ingest.PhotoFile) *record.Photo {
	sum := sha256.Sum256(p.Data)
	return &record.Photo{Hash: hex.EncodeToString(sum[:]), Mime: p.Mime, Width: p.Width, Height: p.Height, Data: p.Data}
}

func (s *server) doubt(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.Stamp(ctx, f.key(), id, f.entry(), f.stamp(casework.Doubt, casework.Trust))
	})
}
