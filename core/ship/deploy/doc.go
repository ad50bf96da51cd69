// Package deploy brings releases to targets: planned, whole, verified, undoable.
//
// A Goal is what a target should have. A Plan compares it with what is there. Run stages what is
// new beside what is there, verifies it by hash on the far side, and only then switches, by
// renaming, in an order in which no list ever names a map that is not whole. Before the switch a
// journal is written into the target; a run that was killed or cut off is undone by the next one,
// from the target's own safe place. The server is asked whether it plays what is there now; when it
// can't, everything goes back.
//
// target.go finds and opens a target; goal.go, page.go and mirror.go make the goal; state.go is
// what a target remembers (docs/formats/target.md); plan.go compares; lock.go keeps others out;
// apply.go is a run from lock to end, stage.go what it does before the switch, switch.go the switch
// and its undoing; marks.go is what makes the next one short; server.go asks the game server;
// back.go is going back, withdrawing and the history; look.go is for status; fleet.go deploys to
// several targets. Package transport knows how places are reached, package serverlist how lists are
// edited.
package deploy
