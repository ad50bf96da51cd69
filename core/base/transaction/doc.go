// Package transaction changes several files of a folder that is not Vornix's own, such as an
// installed game, so that either every change happens or none, and so that it can be rolled back.
//
// Everything that the package writes besides the files themselves is in the folder Dir:
//
//	new/           staged files, each complete before it is given to Commit
//	kept/          backups of what was replaced, named by their SHA-256, each content once
//	journal.json   the moves of the transaction that is under way
//	records.jsonl  one line per transaction, and one per rollback
//	lock           held by the process that changes the folder
//
// A transaction goes through these steps. Each is durable (fsync of the file and of its folder)
// before the next begins:
//
//  1. Stage: the new files are written to new/.
//  2. Commit backs up every file that it replaces to kept/.
//  3. It writes the journal. Until here a crash leaves the folder as it was.
//  4. It renames staged files into place, then removes what goes, so that the folder never lacks
//     both the old and the new one of a pair.
//  5. It appends the record. This is the commit point: readers of the records count on it.
//  6. It removes the journal.
//
// After a crash, Open recovers. With the record present it only removes the journal. With every file
// either old or new, and every staged file still needed present, it rolls forward. Otherwise it
// restores the backups. A file that is neither old nor new was written by someone else since: it
// stays in every case.
//
// RollBack restores what a transaction replaced, as a transaction of its own. It refuses, or leaves
// or quarantines files that were changed since, as its caller asks (ChangedPolicy). On file systems
// that fold case or Unicode form, a file that only changes its spelling is one move (spelling.go).
package transaction
