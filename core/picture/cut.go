package picture

import "vornix/core/geom/ray"

// cut takes a part of a map away, so that one sees into it.
type cut struct {
	section ray.Vec // the colour of solids where they are cut open
}
