// Package lightmap is the compile stage that says how much light lies on every surface of a map.
//
//   - layout.go gives each face its rectangle of texels on a page. Faces in one plane share the
//     texels that lie on both, so that no seam shows between them, and a rectangle has every texel
//     that is mixed into its face, so that nothing bleeds in.
//   - direct.go adds the light of lamps, spots and the sun, with soft shadows from their size,
//     coloured and shaped by what is seen through: the inverse-square law and Lambert's cosine law,
//     sampled.
//   - emitters.go adds the light of surfaces that glow: exactly what each would bring (Lambert's
//     formula for polygons), times the part of it that is in sight, sampled.
//   - gather.go adds the light of the sky and of all other surfaces, by asking what is seen in
//     directions spread over the half sphere as the cosine law weighs them (Cook, Porter and
//     Carpenter, "Distributed ray tracing", 1984; Kajiya, "The rendering equation", 1986).
//     Directions come from a sequence that fills the square evenly (Roberts, "The unreasonable
//     effectiveness of quasirandom sequences", 2018), turned for every texel. Light that bounced
//     several times is found pass by pass, each on the texels of the one before. A texel is asked
//     about until the error of its mean is as small as is wanted, or it has had its share.
//   - filter.go evens out what noise is left, and keeps edges: neighbours count as far as they
//     differ by no more than chance explains (after Tomasi and Manduchi, "Bilateral filtering",
//     1998).
//   - ambient.go samples the light in the air, for what moves.
//   - tiles.go lights the cells of tile maps.
//
// Every pass is kept by content, the last in parts, so that a stage that was stopped goes on where it was.
package lightmap
