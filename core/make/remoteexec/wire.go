package remoteexec

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"time"

	"vornix/core/base/finding"
	"vornix/core/make/taskgraph"
)

// What a farm's server knows: one stream of units of work, with one queue of those who take them;
// one bucket of contents; and subjects.
const (
	streamName   = "vornix-work"
	workSubject  = "vornix.work" // and a version's token, and a build
	consumerName = "workers"     // and a version's token
	bucketName   = "vornix-files"
	// Below hereSubject workers say that they are there; on rollSubject they are asked to.
	hereSubject = "vornix.here"
	rollSubject = "vornix.roll"
)

// What a build is told, and tells: each a subject of its own.
const (
	askWord  = "ask"
	doneWord = "done"
	tellWord = "tell"
	stopWord = "stop"
)

// token is a version as a part of subjects: units of one version are only given to workers of the same.
func token(version string) string {
	sum := sha256.Sum256([]byte(version))
	return hex.EncodeToString(sum[:6])
}

// subject is where a build listens, or speaks.
func subject(build, word string) string { return "vornix.build." + build + "." + word }

const (
	// leaseTimeout is how long a unit may be silent before the queue gives it to somebody else; beat is
	// how often it is said that one is at it.
	leaseTimeout      = 20 * time.Second
	heartbeatInterval = 4 * time.Second
	// presenceInterval is how often workers say that they are there, gone how long after the last
	// time they are taken for gone.
	presenceInterval = 2 * time.Second
	presenceTimeout  = 8 * time.Second
	// waits is how long a unit lies in the queue at most. A build that is still there has done it itself by then.
	waits = 2 * time.Hour
	// deliveries is how often a unit is given to somebody.
	deliveries = 20
	// answerTimeout is how long one waits for an answer to a request.
	answerTimeout = 5 * time.Second
	// inlineLimit is how large a content may be that goes along with a message, in bytes.
	inlineLimit = 16 << 10
)

// unit is what lies in the queue: jobs to be done, or pieces of one.
type unit struct {
	Version string    `json:"version"`
	Build   string    `json:"build"`
	ID      string    `json:"id"`
	Orders  []content `json:"orders"`
	Part    *part     `json:"part,omitempty"`
	// Inline are contents that come along, by their hashes.
	Inline map[string][]byte `json:"small,omitempty"`
}

// part are pieces of a long stage of the unit's only job.
type part struct {
	Key   string `json:"key"`
	First int    `json:"first"`
	Last  int    `json:"last"`
	// Kept lists what was made before that the job kept, as JSON.
	Kept content `json:"kept"`
}

// content is something that is known by its hash.
type content struct {
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
}

// cachedPart is a part of a job's work that was kept under a key.
type cachedPart struct {
	Key string `json:"key"`
	content
}

func contentOf(data []byte) content {
	sum := sha256.Sum256(data)
	return content{hex.EncodeToString(sum[:]), int64(len(data))}
}

func (c content) output(name string) taskgraph.Output {
	return taskgraph.Output{Path: name, SHA256: c.SHA256, Size: c.Size}
}

// startRequest is what a worker says before it begins.
type startRequest struct {
	Unit     string `json:"unit"`
	Worker   string `json:"worker"`
	Declines string `json:"declines,omitempty"` // why it does not do it
}

// startReply is what a build answers.
type startReply struct {
	Go  []string `json:"go,omitempty"` // the jobs that are wanted; of pieces, the one that they belong to
	Why string   `json:"why,omitempty"`
	// Else says that another worker is to do it: this one gives it back.
	Else bool `json:"else,omitempty"`
	// Shut says that nothing of this worker is taken any more.
	Shut bool `json:"shut,omitempty"`
}

// report is what a worker hands in.
type report struct {
	Unit   string            `json:"unit"`
	Worker string            `json:"worker"`
	Jobs   []jobReport       `json:"jobs,omitempty"`
	Part   *content          `json:"part,omitempty"`
	Took   float64           `json:"took"` // seconds of work
	Err    string            `json:"err,omitempty"`
	Inline map[string][]byte `json:"small,omitempty"`
}

// jobReport is what came of a job.
type jobReport struct {
	ID       string             `json:"id"`
	Outputs  []taskgraph.Output `json:"outputs,omitempty"`
	Findings []finding.Finding  `json:"findings,omitempty"`
	Took     float64            `json:"took"` // seconds
	Err      string             `json:"err,omitempty"`
}

// progressMessage is how far a worker is with a job.
type progressMessage struct {
	Unit   string `json:"unit"`
	Worker string `json:"worker"`
	ID     string `json:"id"`
	Stage  string `json:"stage"`
	Done   int64  `json:"done"`
	Total  int64  `json:"total"`
}

// stopMessage says that a unit, or all of a build, need not be done.
type stopMessage struct {
	Unit string `json:"unit"` // empty: all
}

// WorkerInfo is what a worker says of itself.
type WorkerInfo struct {
	Worker  string    `json:"worker"`
	System  string    `json:"system"`
	Version string    `json:"version"`
	Slots   int       `json:"hands"` // how many units it does at once
	Own     bool      `json:"own"`   // whether it runs projects' own steps
	Doing   []string  `json:"doing"`
	Resting string    `json:"resting,omitempty"` // why it takes nothing for now
	Since   time.Time `json:"since"`
	Leaving bool      `json:"leaving,omitempty"`
	// Declines is why it does nothing for the one who asked who is there.
	Declines string `json:"declines,omitempty"`
}

// presenceRequest asks who is there.
type presenceRequest struct {
	Version string `json:"version"` // of the build that asks; empty: somebody only looks
}

// pack writes a message.
func pack(v any) []byte {
	data, err := json.Marshal(v)
	if err != nil {
		panic("a message of the farm can't be written: " + err.Error()) // only called with the plain structs above
	}
	return data
}
