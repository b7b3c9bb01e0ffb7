package curve

// Builder gathers readings into one batch. The zero value is ready; O(1) per reading.
type Builder struct {
	Names []string // of the batch's columns; a column's Curve is its index here
	batch Batch
	index map[string]int
	count int
}

// Point begins a new point; the readings that follow stand at it.
func (b *Builder) Point(p Point) { b.batch.Axis = append(b.batch.Axis, p) }

// Value adds a reading at the latest point. A second value for the same curve at one point replaces the first.
func (b *Builder) Value(name string, v float64) {
	i, ok := b.index[name]
	if !ok {
		if b.index == nil {
			b.index = map[string]int{}
		}
		i = len(b.Names)
		b.index[name] = i
		b.Names = append(b.Names, name)
		b.batch.Columns = append(b.batch.Columns, Column{Curve: i, Rows: []int{}})
	}
	c := &b.batch.Columns[i]
	row := len(b.batch.Axis) - 1
	if n := len(c.Rows); n > 0 && c.Rows[n-1] == row {
		c.Values[n-1] = v
		return
	}
	c.Rows, c.Values = append(c.Rows, row), append(c.Values, v)
	b.count++
}

// Add takes over the readings of another batch, whose columns have these names.
func (b *Builder) Add(names []string, other Batch) {
	at := make([]int, len(other.Columns))
	for row, p := range other.Axis {
		b.Point(p)
		for i, c := range other.Columns {
			k := at[i]
			if k < len(c.Values) && (c.Rows == nil || c.Rows[k] == row) {
				b.Value(names[i], c.Values[k])
				at[i]++
			}
		}
	}
}

// Len is how many readings there are.
func (b *Builder) Len() int { return b.count }

// Points is how many points there are.
func (b *Builder) Points() int { return len(b.batch.Axis) }

// Batch is what was gathered; columns with a value at every point have nil Rows.
func (b *Builder) Batch() Batch {
	for i := range b.batch.Columns {
		if c := &b.batch.Columns[i]; len(c.Rows) == len(b.batch.Axis) {
			c.Rows = nil
		}
	}
	return b.batch
}
