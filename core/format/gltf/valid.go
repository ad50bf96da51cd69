package gltf

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/qmuntal/gltf"
	"github.com/qmuntal/gltf/modeler"
)

// holes refuses null as an element of an array, outside of extras: glTF has none, and the library
// takes such elements for objects.
func holes(text []byte) error {
	d := json.NewDecoder(bytes.NewReader(text))
	type level struct {
		array, extras bool
		key           string // of an object: the one whose value comes next, "" while a key comes next
	}
	var levels []level
	for {
		token, err := d.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		top := &level{}
		if len(levels) > 0 {
			top = &levels[len(levels)-1]
		}
		if key, ok := token.(string); ok && !top.array && top.key == "" && len(levels) > 0 {
			top.key = "=" + key
			continue
		}
		inside := top.extras || top.key == "=extras"
		top.key = ""
		switch token {
		case nil:
			if top.array && !inside {
				return errors.New("a list contains null")
			}
		case json.Delim('['), json.Delim('{'):
			if len(levels) > maxNesting {
				return errors.New("its JSON is nested too deeply")
			}
			levels = append(levels, level{array: token == json.Delim('['), extras: inside})
		case json.Delim(']'), json.Delim('}'):
			levels = levels[:len(levels)-1]
		}
	}
}

// values reads the data of an accessor, after the checks that the library leaves out. Without a
// buffer view every value is zero.
func (r *reader) values(i int, component gltf.ComponentType, kind gltf.AccessorType) (any, error) {
	if i < 0 || i >= len(r.doc.Accessors) {
		return nil, errors.New("it refers to data that does not exist")
	}
	a := r.doc.Accessors[i]
	if a.ComponentType != component || a.Type != kind {
		return nil, errors.New("its data is of a type that does not belong there")
	}
	if a.Count < 0 || a.Count > maxElements {
		return nil, errors.New("it claims more points than Vornix reads")
	}
	size := gltf.SizeOfElement(a.ComponentType, a.Type)
	if a.BufferView != nil {
		if err := r.fits(*a.BufferView, a.ByteOffset, a.Count, size); err != nil {
			return nil, err
		}
	}
	if s := a.Sparse; s != nil {
		if s.Count < 0 || s.Count > a.Count {
			return nil, errors.New("it replaces more values than there are")
		}
		at := &gltf.Accessor{ComponentType: s.Indices.ComponentType, Type: gltf.AccessorScalar, Count: s.Count,
			BufferView: &s.Indices.BufferView, ByteOffset: s.Indices.ByteOffset}
		if err := r.fits(s.Indices.BufferView, at.ByteOffset, at.Count,
			gltf.SizeOfElement(at.ComponentType, at.Type)); err != nil {
			return nil, err
		}
		if err := r.fits(s.Values.BufferView, s.Values.ByteOffset, s.Count, size); err != nil {
			return nil, err
		}
		indices, err := modeler.ReadIndices(r.doc, at, nil)
		if err != nil {
			return nil, err
		}
		for _, n := range indices {
			if int64(n) >= int64(a.Count) {
				return nil, errors.New("it replaces a value beyond its end")
			}
		}
	}
	return modeler.ReadAccessor(r.doc, a, nil)
}

// read is values as what they are.
func read[T any](r *reader, i int, component gltf.ComponentType, kind gltf.AccessorType) ([]T, error) {
	data, err := r.values(i, component, kind)
	if err != nil {
		return nil, err
	}
	list, ok := data.([]T)
	if !ok {
		return nil, errors.New("its data is of a type that does not belong there")
	}
	return list, nil
}

// component is the type of an accessor's numbers.
func (r *reader) component(i int) gltf.ComponentType {
	if i < 0 || i >= len(r.doc.Accessors) {
		return gltf.ComponentFloat // values says what is wrong
	}
	return r.doc.Accessors[i].ComponentType
}

// indices reads the corners of triangles, in 8, 16 or 32 bits.
func (r *reader) indices(i int) ([]uint32, error) {
	switch c := r.component(i); c {
	case gltf.ComponentUbyte:
		return widened(read[uint8](r, i, c, gltf.AccessorScalar))
	case gltf.ComponentUshort:
		return widened(read[uint16](r, i, c, gltf.AccessorScalar))
	default:
		return read[uint32](r, i, gltf.ComponentUint, gltf.AccessorScalar)
	}
}

func widened[T uint8 | uint16](list []T, err error) ([]uint32, error) {
	out := make([]uint32, len(list))
	for i, n := range list {
		out[i] = uint32(n)
	}
	return out, err
}

// coordinates reads texture coordinates: floats, or parts of 255 or 65535.
func (r *reader) coordinates(i int) ([][2]float32, error) {
	switch c := r.component(i); c {
	case gltf.ComponentUbyte:
		list, err := read[[2]uint8](r, i, c, gltf.AccessorVec2)
		return shares(list, 255), err
	case gltf.ComponentUshort:
		list, err := read[[2]uint16](r, i, c, gltf.AccessorVec2)
		return shares(list, 65535), err
	default:
		return read[[2]float32](r, i, gltf.ComponentFloat, gltf.AccessorVec2)
	}
}

func shares[T uint8 | uint16](list [][2]T, whole float32) [][2]float32 {
	out := make([][2]float32, len(list))
	for i, n := range list {
		out[i] = [2]float32{float32(n[0]) / whole, float32(n[1]) / whole}
	}
	return out
}

// fits says whether count elements of a size, in bytes, lie within a buffer view from an offset on.
func (r *reader) fits(view, offset, count, size int) error {
	if view < 0 || view >= len(r.doc.BufferViews) {
		return errors.New("it refers to a buffer view that does not exist")
	}
	v := r.doc.BufferViews[view]
	if v.Buffer < 0 || v.Buffer >= len(r.doc.Buffers) {
		return errors.New("it refers to a buffer that does not exist")
	}
	for _, n := range []int{v.ByteOffset, v.ByteLength, v.ByteStride, offset} {
		if n < 0 || n > maxFile {
			return fmt.Errorf("it claims %d bytes", n)
		}
	}
	stride := v.ByteStride
	if stride == 0 {
		stride = size
	}
	if stride < size {
		return errors.New("its values overlap")
	}
	end := int64(offset)
	if count > 0 {
		end += int64(count-1)*int64(stride) + int64(size)
	}
	if end > int64(v.ByteLength) || int64(v.ByteOffset)+int64(v.ByteLength) > int64(len(r.doc.Buffers[v.Buffer].Data)) {
		return errors.New("its data is cut short")
	}
	return nil
}
