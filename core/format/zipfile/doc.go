// Package zipfile writes and reads ZIP archives (PKWARE APPNOTE 6.3.10) and saves what can be saved of damaged ones.
//
// What it writes depends on names, contents and options only: no clock, no machine, no number of
// processors. Pack compresses on all of them within bounded memory, whatever the size of the
// archive, splits it where it would become too large, and takes over entries of an older archive
// without compressing them again. Open reads archives of any writer and believes none: names, sizes
// and offsets are held against each other before they are used. Salvage reads an archive from its
// local headers when its directory is damaged or gone.
//
// writer.go lays out headers, pack.go feeds it, method.go compresses, reader.go opens and checks, names.go judges the
// names of entries, salvage.go reads what is left.
package zipfile
