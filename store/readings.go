package store

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"

	"gorm.io/gorm/clause"

	"wexter/core/record"
)

const blockReadings = 4096

// block is some readings of a run: a column of times and one of each channel, the first of
// which is not counted in Beside.
type block struct {
	RunID    string
	Seq      int
	Readings int
	Beside   int `gorm:"column:wall"`
	Data     []byte
}

// PutReadings writes a run's readings in blocks.
func (tx Tx) PutReadings(run string, t record.Table) error {
	for seq, at := 0, 0; at < t.Len(); seq++ {
		n := min(blockReadings, t.Len()-at)
		if err := tx.AppendReadings(run, seq, Piece{Table: t, From: at, To: at + n}); err != nil {
			return err
		}
		at += n
	}
	return nil
}

// Piece is a stretch of readings: From up to, but without, To.
type Piece struct {
	Table    record.Table
	From, To int
}

// AppendReadings writes a piece of a run as its block seq.
func (tx Tx) AppendReadings(run string, seq int, p Piece) error {
	b := block{RunID: run, Seq: seq, Readings: p.To - p.From, Beside: len(p.Table.Cols) - 1}
	add := func(c []float64) {
		for _, x := range c[p.From:p.To] {
			b.Data = binary.LittleEndian.AppendUint64(b.Data, math.Float64bits(x))
		}
	}
	add(p.Table.Time)
	for _, c := range p.Table.Cols {
		add(c)
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

// Readings returns a run's readings. A channel that later blocks are without, as in runs of
// before, gave nothing from there on.
func (tx Tx) Readings(run string) (record.Table, error) {
	var bs []block
	if err := tx.db.Table("blocks").Where("run_id = ?", run).Order("seq").Find(&bs).Error; err != nil {
		return record.Table{}, err
	}
	channels := 0
	for _, b := range bs {
		if b.Beside < -1 || b.Beside >= mostColumns || len(b.Data) != 8*(2+b.Beside)*b.Readings {
			return record.Table{}, fmt.Errorf("block %d of run %s is damaged: %d bytes for %d readings", b.Seq, run, len(b.Data), b.Readings)
		}
		channels = max(channels, 1+b.Beside)
	}
	t := record.NewTable(channels)
	for _, b := range bs {
		column := func(c int) (out []float64) {
			for i := range b.Readings {
				out = append(out, math.Float64frombits(binary.LittleEndian.Uint64(b.Data[8*(c*b.Readings+i):])))
			}
			return out
		}
		t.Time = append(t.Time, column(0)...)
		for c := range t.Cols {
			if c <= b.Beside {
				t.Cols[c] = append(t.Cols[c], column(1+c)...)
				continue
			}
			t.Cols[c] = append(t.Cols[c], slices.Repeat([]float64{math.NaN()}, b.Readings)...)
		}
	}
	return t, nil
}

// mostColumns is how many channels a block can hold.
const mostColumns = 64
