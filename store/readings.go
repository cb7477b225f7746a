package store

import (
	"encoding/binary"
	"fmt"
	"math"

	"gorm.io/gorm/clause"

	"wexter/core/record"
	"wexter/ingest"
)

const blockReadings = 4096

// block is some readings of a run.
type block struct {
	RunID    string
	Seq      int
	Readings int
	Wall     bool
	Data     []byte
}

// PutReadings writes a run's readings in blocks.
func (tx Tx) PutReadings(run string, l ingest.Log) error {
	for seq, at := 0, 0; at < len(l.Time); seq++ {
		n := min(blockReadings, len(l.Time)-at)
		if err := tx.AppendReadings(run, seq, Piece{Log: l, From: at, To: at + n}); err != nil {
			return err
		}
		at += n
	}
	return nil
}

// Piece is a stretch of a log: readings From up to, but without, To.
type Piece struct {
	Log      ingest.Log
	From, To int
}

// AppendReadings writes a piece of a log as block seq of a run.
func (tx Tx) AppendReadings(run string, seq int, p Piece) error {
	b := block{RunID: run, Seq: seq, Readings: p.To - p.From, Wall: p.Log.Wall != nil}
	cols := [][]float64{p.Log.Time, p.Log.Gauge}
	if b.Wall {
		cols = append(cols, p.Log.Wall)
	}
	for _, c := range cols {
		for _, x := range c[p.From:p.To] {
			b.Data = binary.LittleEndian.AppendUint64(b.Data, math.Float64bits(x))
		}
	}
	return tx.db.Table("blocks").Create(&b).Error
}

// gap is a gap of a run that is being read.
type gap struct {
	RunID      string
	Seq        int
	record.Gap `gorm:"embedded"`
}

// AppendGaps writes gaps of a run that is being read, the first as number from. The last
// one that is there may have grown meanwhile; all before it stay.
func (tx Tx) AppendGaps(run string, from int, gaps record.Gaps) error {
	rows := make([]gap, len(gaps))
	for i, g := range gaps {
		rows[i] = gap{run, from + i, g}
	}
	if len(rows) == 0 {
		return nil
	}
	return tx.db.Table("gaps").Clauses(clause.OnConflict{UpdateAll: true, Columns: []clause.Column{{Name: "run_id"}, {Name: "seq"}}}).CreateInBatches(&rows, 100).Error
}

// withGaps gives runs that are being read the gaps that they have so far.
func (tx Tx) withGaps(rs []record.Run) ([]record.Run, error) {
	for i := range rs {
		if rs[i].EndedAt != nil {
			continue
		}
		rs[i].Gaps = record.Gaps{}
		if err := tx.db.Table("gaps").Where("run_id = ?", rs[i].ID).Order("seq").Find(&rs[i].Gaps).Error; err != nil {
			return nil, err
		}
	}
	return rs, nil
}

// EndRun writes a run that has ended with its gaps, which it carries itself from now on.
func (tx Tx) EndRun(r record.Run) error {
	if err := tx.Put(&r); err != nil {
		return err
	}
	return tx.db.Exec("DELETE FROM gaps WHERE run_id = ?", r.ID).Error
}

// Blocks returns how many blocks a run has: the number of the next one.
func (tx Tx) Blocks(run string) (n int, err error) {
	err = tx.db.Table("blocks").Where("run_id = ?", run).Select("COALESCE(MAX(seq) + 1, 0)").Scan(&n).Error
	return n, err
}

// Readings returns a run's readings.
func (tx Tx) Readings(run string) (ingest.Log, error) {
	var bs []block
	if err := tx.db.Table("blocks").Where("run_id = ?", run).Order("seq").Find(&bs).Error; err != nil {
		return ingest.Log{}, err
	}
	var l ingest.Log
	for _, b := range bs {
		cols := 2
		if b.Wall {
			cols = 3
		}
		if len(b.Data) != 8*cols*b.Readings {
			return l, fmt.Errorf("block %d of run %s is damaged: %d bytes for %d readings", b.Seq, run, len(b.Data), b.Readings)
		}
		for c := range cols {
			for i := range b.Readings {
				x := math.Float64frombits(binary.LittleEndian.Uint64(b.Data[8*(c*b.Readings+i):]))
				switch c {
				case 0:
					l.Time = append(l.Time, x)
				case 1:
					l.Gauge = append(l.Gauge, x)
				case 2:
					l.Wall = append(l.Wall, x)
				}
			}
		}
	}
	// A probe that fell silent leaves the later blocks without a wall: of the whole run
	// none counts then.
	if len(l.Wall) != len(l.Time) {
		l.Wall = nil
	}
	return l, nil
}
