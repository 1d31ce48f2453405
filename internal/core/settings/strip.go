package settings

// Strip is how the lamps of a strip are laid out.
type Strip struct {
	Width, Height int
	Corner        string // of the first lamp
	Columns       bool   // it runs in columns, else in rows
	BackAndForth  bool
	Limit         int // brightness, %; 0: none
}

// StripOf reads the layout from intended settings. ok is false when there is
// none. A strip without width and height is one row.
func StripOf(v Values) (s Strip, ok bool) {
	number := func(k Key) int { n, _ := v[k].(int64); return int(n) }
	s = Strip{Width: number(LoadWidth), Height: number(LoadHeight), Corner: text(v[LoadCorner]), Columns: text(v[LoadDirection]) == "columns", Limit: number(LoadLimit)}
	s.BackAndForth, _ = v[LoadBackForth].(bool)
	if s.Width == 0 || s.Height == 0 {
		s.Width, s.Height = number(LoadCount), 1
	}
	if s.Corner == "" {
		s.Corner = "top left"
	}
	return s, s.Width > 0
}

// Place is where the n-th lamp sits, from 0: its column from the left and its
// row from the top.
func (s Strip) Place(n int) (column, row int) {
	long := s.Width
	if s.Columns {
		long = s.Height
	}
	line, at := n/long, n%long
	if s.BackAndForth && line%2 == 1 {
		at = long - 1 - at
	}
	column, row = at, line
	if s.Columns {
		column, row = line, at
	}
	switch s.Corner {
	case "top right":
		column = s.Width - 1 - column
	case "bottom left":
		row = s.Height - 1 - row
	case "bottom right":
		column, row = s.Width-1-column, s.Height-1-row
	}
	return column, row
}
