package demo

// The sprites of Burrow Tramways, 16 texels a side.

const spriteSide = 16

// moleSheet is the mole's grid image, four by four frames: it blinks (0, 1), walks east (4 to 7) and west (8 to 11) and
// digs (12 to 15).
func moleSheet(x, y, _ int) ([3]int, int) {
	column, row := x/spriteSide, y/spriteSide
	x, y = x%spriteSide, y%spriteSide
	switch row {
	case 0:
		if column > 1 {
			return [3]int{}, 0
		}
		return mole(x, y, 0, 0, column == 1)
	case 1:
		return mole(x, y, column, 0, false)
	case 2:
		return mole(spriteSide-1-x, y, column, 0, false)
	}
	return mole(x, y, 0, column*2, false)
}

// mole looks east; step moves its feet, dug is how deep its head is in the ground.
func mole(x, y, step, dug int, blink bool) ([3]int, int) {
	ground := 14
	y -= dug
	if y+dug >= ground && dug > 0 { // earth thrown up
		if hash(x, dug, 131)>>28 > 7 {
			return mix([3]int{96, 68, 46}, [3]int{140, 106, 74}, int(hash(x, y, 132)>>24)), 255
		}
		return [3]int{}, 0
	}
	bob := 0
	if step%2 == 1 {
		bob = 1
	}
	feet := [4][2]int{{4, 9}, {3, 10}, {4, 9}, {5, 8}}[step%4]
	in := func(cx, cy, rx, ry int) bool { // an ellipse, in half texels
		dx, dy := 2*x+1-cx, 2*(y+bob)+1-cy
		return dx*dx*ry*ry+dy*dy*rx*rx <= rx*rx*ry*ry
	}
	switch {
	case y == 13 && (x == feet[0] || x == feet[0]+1 || x == feet[1] || x == feet[1]+1):
		return [3]int{214, 150, 140}, 255
	case in(27, 18, 3, 3):
		return [3]int{226, 142, 138}, 255 // the nose
	case y+bob == 6 && (x == 9 || x == 10) && !blink:
		return [3]int{20, 18, 20}, 255 // an eye
	case in(17, 7, 10, 7) && y+bob < 5:
		if in(23, 6, 3, 3) {
			return [3]int{250, 236, 160}, 255 // the lamp
		}
		return [3]int{178, 52, 44}, 255 // the helmet
	case in(15, 18, 12, 10):
		return shade([3]int{92, 74, 70}, 215+int(hash(x, y, 133)>>26)), 255
	case in(22, 17, 6, 5):
		return [3]int{112, 90, 84}, 255
	}
	return [3]int{}, 0
}

// lamp is a frame of a lantern that glows brighter and darker, with soft light around it.
func lamp(bright int) painter {
	return func(x, y, _ int) ([3]int, int) {
		dx, dy := 2*x+1-spriteSide, 2*y+1-14
		d := dx*dx + dy*dy
		switch {
		case x == 7 || x == 8:
			if y > 9 && y < 15 {
				return [3]int{58, 54, 58}, 255
			}
		case y == 15 && x > 4 && x < 11:
			return [3]int{58, 54, 58}, 255
		}
		switch {
		case d < 18:
			return mix([3]int{196, 136, 60}, [3]int{255, 244, 190}, bright), 255
		case d < 34:
			return [3]int{70, 62, 60}, 255
		case d < 34+bright/2:
			return [3]int{255, 206, 120}, max(0, 150-(d-34)*150/max(bright/2, 1))
		}
		return [3]int{}, 0
	}
}
