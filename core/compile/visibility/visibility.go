package visibility

import (
	"context"
	"encoding/binary"
	"slices"

	"vornix/core/compile/bsp"
	"vornix/core/compile/csg"
	"vornix/core/compile/stage"
	"vornix/core/format/mapfile"
)

// Version is raised whenever the same map would be parted otherwise.
const Version = 2

// Result is what the stage has to say.
type Result struct {
	Cells, Portals int
	// Open are portals from which sight was too far-flung to be followed.
	Open int
}

// Build finds what is seen from where and writes it into a compiled map, whose leaves are those of the tree.
func Build(ctx context.Context, e *stage.Env, t *bsp.Tree, faces []csg.Face, out *mapfile.Map) (*Result, error) {
	openings, err := t.Openings(ctx, true)
	if err != nil {
		return nil, err
	}
	l := lay(t, openings, out.Meta.Sealed)
	r := &Result{Cells: len(l.boxes), Portals: len(l.portals) / 2}
	if r.Cells == 0 {
		return r, nil
	}
	w := e.Begin(stage.Visibility, int64(2*len(l.portals)+64))
	var rows []set
	v := &mapfile.Visibility{}
	key := stage.Key(stage.Visibility, Version, e.How(), l.decides(), l.boxes)
	use := func(data []byte) bool {
		read, ok := mapfile.UnpackRows(data, len(l.boxes))
		v.Rows = read
		return ok
	}
	err = w.Once(key, int64(2*len(l.portals)+64), use, func() ([]byte, error) {
		if e.Draft {
			rows = l.connected()
		} else if rows, r.Open, err = l.flow(ctx, w, key); err != nil {
			return nil, err
		}
		v.Rows = make([][]uint64, len(rows))
		for i := range rows {
			v.Rows[i] = rows[i]
		}
		return mapfile.PackRows(v.Rows, len(rows)), nil
	})
	if err != nil {
		return nil, err
	}
	for _, b := range l.boxes {
		v.Cells = append(v.Cells,
			mapfile.Cell{Min: [3]float32{float32(b.Min.X), float32(b.Min.Y), float32(b.Min.Z)},
				Max: [3]float32{float32(b.Max.X), float32(b.Max.Y), float32(b.Max.Z)}})
	}
	for i := range out.Leaves {
		out.Leaves[i].Cell = uint32(l.cell[i] + 1)
	}
	for i, f := range faces {
		last := -1
		seen := map[int]bool{}
		t.InFront(f.Polygon, f.Of.Plane, func(leaf int) {
			if c := l.cell[leaf]; c >= 0 && c != last && !seen[c] {
				v.Cells[c].Faces = append(v.Cells[c].Faces, uint32(i))
				seen[c], last = true, c
			}
		})
	}
	out.Visibility = v
	return r, nil
}

// decides is what of portals decides what is seen.
func (l *layout) decides() any {
	type p struct {
		From, To int
		Outline  any
	}
	list := make([]p, len(l.portals))
	for i, q := range l.portals {
		list[i] = p{q.from, q.to, q.outline}
	}
	return list
}

// connected takes all cells between which there is a way for seeing each other.
func (l *layout) connected() []set {
	rows := make([]set, len(l.boxes))
	for i := range rows {
		if rows[i] != nil {
			continue
		}
		all := newSet(len(l.boxes))
		all.add(i)
		members := []int{i}
		for k := 0; k < len(members); k++ {
			for _, o := range l.out[members[k]] {
				if to := l.portals[o].to; !all.has(to) {
					all.add(to)
					members = append(members, to)
				}
			}
		}
		for _, m := range members {
			rows[m] = all
		}
	}
	return rows
}

// parts are portals as pieces of work, of which each gives a set of cells. One that is that of
// otherwise is told by that alone.
func (l *layout) parts(list []int, sets, otherwise []set, size int, key string, one func(i int) set) stage.Parts {
	words := len(newSet(len(l.boxes)))
	return stage.Parts{Key: func(int) string { return key }, N: len(list), Passing: true, Size: size, Weight: 1,
		Do: func(first, last int) {
			for _, i := range list[first:last] {
				sets[i] = one(i)
			}
		}, Pack: func(first, last int) (data []byte) {
			for _, i := range list[first:last] {
				if otherwise != nil && &sets[i][0] == &otherwise[i][0] {
					data = append(data, 1)
					continue
				}
				data = append(data, 0)
				for _, word := range sets[i] {
					data = binary.LittleEndian.AppendUint64(data, word)
				}
			}
			return data
		}, Unpack: func(first, last int, data []byte) bool {
			for _, i := range list[first:last] {
				if len(data) == 0 || data[0] > 1 || data[0] == 0 && len(data) <= 8*words || data[0] == 1 &&
					otherwise == nil {
					return false
				}
				same := data[0] == 1
				if data = data[1:]; same {
					sets[i] = otherwise[i]
					continue
				}
				s := newSet(len(l.boxes))
				for k := range s {
					s[k] = binary.LittleEndian.Uint64(data[8*k:])
				}
				sets[i], data = s, data[8*words:]
			}
			return len(data) == 0
		}}
}

// flow follows sight from every portal.
func (l *layout) flow(ctx context.Context, w *stage.Work, key string) (rows []set, open int, err error) {
	n := len(l.portals)
	might, seen := make([]set, n), make([]set, n)
	all := make([]int, n)
	for i := range all {
		all[i] = i
	}
	if err := w.Parts(ctx, l.parts(all, might, nil, 16, stage.Key(key, "might"), l.might)); err != nil {
		return nil, 0, err
	}
	// Those that might see least come first, and those after them, wave by wave, look through them
	// with what is known by then: waves are of one size whatever the number of processors, so that
	// the result is.
	order := make([]int, n)
	counts := make([]int, n)
	for i := range order {
		order[i], counts[i] = i, might[i].count()
	}
	slices.SortStableFunc(order, func(a, b int) int { return counts[a] - counts[b] })
	known := slices.Clone(might)
	waves := 0
	follow := func(list []int, limit int) (given int, err error) {
		waves++
		from := func(i int) set { return l.from(i, known, limit) }
		if err := w.Parts(ctx, l.parts(list, seen, might, 1, stage.Key(key, "wave", waves), from)); err != nil {
			return 0, err
		}
		for _, i := range list {
			if known[i] = seen[i]; &seen[i][0] == &might[i][0] {
				given++
			}
		}
		return given, nil
	}
	const wave = 64
	// A few from all over say whether most of the map is open: there, many steps would tell no more than few.
	var probes []int
	for i := range min(wave, n) {
		probes = append(probes, order[i*n/min(wave, n)])
	}
	given, err := follow(probes, probeSteps)
	if err != nil {
		return nil, 0, err
	}
	limit, tried := steps, 0
	if given > len(probes)/2 {
		limit = stepsOutdoors
	}
	given = 0
	for list := range slices.Chunk(order, wave) {
		more, err := follow(list, limit)
		if err != nil {
			return nil, 0, err
		}
		given += more
		if tried += len(list); given > tried/3 {
			limit = stepsOutdoors
		}
	}
	sees := make([]set, len(l.boxes))
	for c := range sees {
		sees[c] = newSet(len(l.boxes))
		sees[c].add(c)
		for _, k := range l.out[c] {
			for i, word := range seen[k] {
				sees[c][i] |= word
			}
		}
	}
	rows = make([]set, len(l.boxes))
	for a := range rows {
		rows[a] = newSet(len(l.boxes))
		for b := range rows {
			if sees[a].has(b) && sees[b].has(a) {
				rows[a].add(b)
			}
		}
	}
	return rows, given, nil
}
