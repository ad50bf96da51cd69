package mapfile

import (
	"errors"
	"fmt"
)

// Navigation is where one kind of agent can walk, and how it gets from place to place. Metres.
type Navigation struct {
	Agent    Agent
	Areas    []string // names of areas; the first is "", plain ground
	Polygons []Ground
	Links    []Link
}

// Agent is who walks.
type Agent struct {
	Name           string
	Radius, Height float32
	Step           float32 // the highest step that it takes
	Slope          float32 // the steepest ground, degrees
	Drop           float32 // how deep it jumps down
	Jump           float32 // how far it jumps
}

// DefaultAgent is the agent of a game whose profile describes none. Lengths are in metres, the slope in degrees.
var DefaultAgent = Agent{Name: "player", Radius: 0.3, Height: 1.8, Step: 0.45, Slope: 46, Drop: 3, Jump: 1.5}

// Ground is a convex polygon that an agent's middle can be anywhere on: a rectangle along the axes
// as seen from above, with a height at each corner: south-west, south-east, north-east, north-west.
// 40 bytes.
type Ground struct {
	Low, High [2]float32 // x, y
	Heights   [4]float32
	Area      uint32 // of Areas
	Island    uint32 // polygons with one number can be reached from one another
}

// LinkKind is how one gets over a link.
type LinkKind uint32

// The kinds of link.
const (
	Walk LinkKind = iota // over the line between A and B, which both polygons share
	Drop                 // from A down to B
	Jump                 // from A over a gap to B
	Ladder
	Door // as Walk, into a door
)

// LinkKinds are the names of the kinds.
var LinkKinds = []string{"walk", "drop", "jump", "ladder", "door"}

// Link leads from one polygon to another, one way. 40 bytes.
type Link struct {
	From, To uint32
	Kind     LinkKind
	A, B     [3]float32
}

// Height is how high a polygon lies at a place.
func (g *Ground) Height(x, y float32) float32 {
	u, v := float32(0), float32(0)
	if w := g.High[0] - g.Low[0]; w > 0 {
		u = min(max((x-g.Low[0])/w, 0), 1)
	}
	if h := g.High[1] - g.Low[1]; h > 0 {
		v = min(max((y-g.Low[1])/h, 0), 1)
	}
	south := g.Heights[0] + float32((g.Heights[1]-g.Heights[0])*u)
	north := g.Heights[3] + float32((g.Heights[2]-g.Heights[3])*u)
	return south + float32((north-south)*v)
}

func encodeNavigation(m *Map, strs *stringTable) []namedChunk {
	var list []namedChunk
	if m.Navigation != nil {
		b := u32s(nil, uint32(len(m.Navigation)), 0, 0, 0)
		for _, n := range m.Navigation {
			a := n.Agent
			b = f32s(u32s(b, strs.add(a.Name)), a.Radius, a.Height, a.Step, a.Slope, a.Drop, a.Jump)
			b = u32s(b, uint32(len(n.Areas)), uint32(len(n.Polygons)), uint32(len(n.Links)))
			for _, name := range n.Areas {
				b = u32s(b, strs.add(name))
			}
			for _, p := range n.Polygons {
				b = f32s(b, p.Low[0], p.Low[1], p.High[0], p.High[1], p.Heights[0], p.Heights[1], p.Heights[2],
					p.Heights[3])
				b = u32s(b, p.Area, p.Island)
			}
			for _, l := range n.Links {
				b = f32s(u32s(b, l.From, l.To, uint32(l.Kind)), l.A[0], l.A[1], l.A[2], l.B[0], l.B[1], l.B[2])
				b = u32s(b, 0)
			}
		}
		list = append(list, namedChunk{"NAVI", b})
	}
	if m.Costs != nil {
		b := u32s(nil, uint32(len(m.Costs)), 0, 0, 0)
		for _, c := range m.Costs {
			b = pad(append(u32s(b, uint32(len(c))), c...))
		}
		list = append(list, namedChunk{"COST", b})
	}
	return list
}

func readNavigation(m *Map, c *cursor) error {
	n := c.u32()
	c.u32()
	c.u32()
	c.u32()
	for range n {
		a := Agent{Name: c.str(), Radius: c.f32(), Height: c.f32(), Step: c.f32(), Slope: c.f32(), Drop: c.f32(),
			Jump: c.f32()}
		nav := Navigation{Agent: a}
		areas, polygons, links := uint64(c.u32()), uint64(c.u32()), uint64(c.u32())
		if c.err != nil || areas*4+polygons*40+links*40 > uint64(len(c.data)) {
			return errors.New("it is cut short")
		}
		for range areas {
			nav.Areas = append(nav.Areas, c.str())
		}
		for i := range polygons {
			p := Ground{Low: [2]float32{c.f32(), c.f32()}, High: [2]float32{c.f32(), c.f32()},
				Heights: [4]float32{c.f32(), c.f32(), c.f32(), c.f32()}, Area: c.u32(), Island: c.u32()}
			if uint64(p.Area) >= areas {
				return fmt.Errorf("polygon %d has an area that is not there", i)
			}
			nav.Polygons = append(nav.Polygons, p)
		}
		for i := range links {
			l := Link{From: c.u32(), To: c.u32(), Kind: LinkKind(c.u32()), A: c.vec(), B: c.vec()}
			c.u32()
			if uint64(l.From) >= polygons || uint64(l.To) >= polygons || int(l.Kind) >= len(LinkKinds) {
				return fmt.Errorf("link %d leads between polygons that are not there", i)
			}
			nav.Links = append(nav.Links, l)
		}
		if c.err != nil {
			return c.err
		}
		m.Navigation = append(m.Navigation, nav)
	}
	return c.err
}

// readCosts reads what a step onto each cell of the grids costs.
func readCosts(m *Map, c *cursor) error {
	if n := c.u32(); c.err != nil || int64(n) != int64(len(m.Grids)) {
		return errors.New("it is for other grids")
	}
	c.u32()
	c.u32()
	c.u32()
	for i := range m.Grids {
		n := uint64(c.u32())
		if c.err != nil || n != uint64(len(m.Grids[i].Cells)) || n > uint64(len(c.data)) {
			return errors.New("it is cut short")
		}
		m.Costs = append(m.Costs, append([]byte{}, c.data[:n]...))
		c.data = c.data[min((n+3)/4*4, uint64(len(c.data))):]
	}
	return nil
}
