// Package deploy brings releases to targets: planned, whole, verified, undoable.
//
// A Goal is what a target should have. A Plan compares it with what is there. Run stages what is
// new beside what is there, verifies it by hash on the far side, and only then switches, by
// renaming, in an order in which no list ever names a map that is not whole. Before the switch a
// journal is written into the target; a run that was killed or cut off is undone by the next one,
// from the target's own safe place. The server is asked whether it plays what is there now; when it
// can't, everything goes back.
//
// A run goes through these states on the target, all below TargetDir unless they are the files themselves:
//
//	locked     lock.json names the run; a heartbeat renews it every 30 s, and after 10 min without one others take it
//	claimed    of a Git repository that is pushed to: a ref on its server that expires by itself
//	staged     every new file is complete under its hash, and was read back
//	journaled  journal.json lists every change, with the backup of what is replaced
//	switched   files were renamed into place, in the order of phases (switch.go)
//	recorded   the record of the version exists: from here on the deployment has happened
//	ended      the journal, the lock, and staged files that no record needs are removed
//
// A crash before "journaled" leaves staged files, which the next run uses or removes. A crash between
// "journaled" and "recorded" is undone by the next run, from the backups. A crash after "recorded"
// costs nothing: the next run removes the journal.
//
// target.go finds and opens a target; goal.go, page.go and mirror.go make the goal; state.go is
// what a target remembers (docs/formats/target.md); plan.go compares; lock.go keeps others out;
// apply.go is a run from lock to end, stage.go what it does before the switch, switch.go the switch
// and its undoing; marks.go is what makes the next one short; server.go asks the game server;
// back.go is going back, withdrawing and the history; look.go is for status; fleet.go deploys to
// several targets. Package transport knows how places are reached, package serverlist how lists are
// edited.
package deploy
