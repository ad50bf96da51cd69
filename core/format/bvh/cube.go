package bvh

// CubeDirection is where a place on one of a cube's images lies as seen from the cube's middle; u
// runs to the right and v down, 0 to
//  1. The images are +X -X +Y -Y +Z -Z of the world's axes, each turned as KTX2 and Vulkan have
//     them. Its length is not one.
func CubeDirection(face int, u, v float32) Vec {
	s, t := float32(2*u)-1, float32(2*v)-1
	return [6]Vec{{1, -t, -s}, {-1, -t, s}, {s, 1, t}, {s, -1, -t}, {s, -t, 1}, {-s, -t, -1}}[face]
}

// CubePlace is the image that a direction leads to, and the place on it.
func CubePlace(d Vec) (face int, u, v float32) {
	axis, limit := 0, float32(-1)
	for k, c := range d {
		if c = max(c, -c); c > limit {
			axis, limit = k, c
		}
	}
	face = 2 * axis
	if d[axis] < 0 {
		face++
	}
	inv := 1 / limit
	switch face {
	case 0:
		u, v = -d[2], -d[1]
	case 1:
		u, v = d[2], -d[1]
	case 2:
		u, v = d[0], d[2]
	case 3:
		u, v = d[0], -d[2]
	case 4:
		u, v = d[0], -d[1]
	default:
		u, v = -d[0], -d[1]
	}
	return face, max((float32(u*inv)+1)/2, 0), max((float32(v*inv)+1)/2, 0)
}
