package wire

import (
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/protocol/orders"
)

// Attention is something that needs attention: a problem of what is no entry, or all
// problems of entries that have one code.
type Attention struct {
	ProblemDetail
	About    about.Thing     `json:"about"`
	Since    *time.Time      `json:"since,omitempty"`
	Count    int             `json:"count" doc:"How many entries have it; 1 for what is no entry"`
	Remedies []remedy.Remedy `json:"remedies"`
}

// Health is the state of everything.
type Health struct {
	State     string           `json:"state" enum:"well,attention,broken"`
	Summary   string           `json:"summary"`
	Attention []Attention      `json:"attention" doc:"What needs attention, the worst first"`
	LastRun   *Run             `json:"lastRun,omitempty" doc:"The last run that has ended"`
	Current   *Run             `json:"current,omitempty" doc:"The run that writes and goes on or waits"`
	Beside    []Run            `json:"beside" doc:"Rehearsals, surveys and the like that go on or wait"`
	Going     []progress.Going `json:"going" doc:"What is deleted when its grace time is over"`
	NextRun   *time.Time       `json:"nextRun,omitempty" doc:"When the schedule starts the next one"`
	NextFull  *time.Time       `json:"nextFull,omitempty" doc:"When the schedule starts the next one that compares everything"`
	Live      bool             `json:"live,omitempty" doc:"A change in a directory that is watched starts a run at once, now"`
	Pauses    []Pause          `json:"pauses" doc:"What operators have stopped"`
	Revision  int              `json:"revision"`
	Agents    []Agent          `json:"agents"`
	Objects   ObjectCounts     `json:"objects"`
	Cloud     CloudState       `json:"cloud"`
	Problems  int              `json:"problems"`
	ByProblem []CodeCount      `json:"byProblem"`
	Pins      int              `json:"pins" doc:"How many things were put back and stay so, whatever rules and scope say"`
	Directory []DirectoryState `json:"directories"`
	Passwords PasswordsState   `json:"passwords" doc:"The way by which passwords come from the cloud"`
	// SignIns is what is to be told of who signed in or tried to.
	SignIns SignIns `json:"signIns"`
	// Certificates are those that end within a month.
	Certificates []Certificate `json:"certificates" doc:"Those by which a service, a directory or the cloud is known, and which end within a month"`
	// SignOn is what is wrong with how the people of domains sign in to the cloud.
	SignOn []SignOnTrouble `json:"signOn" doc:"What is wrong with how the people of login domains sign in to the cloud"`
	// Expectations is how what the active settings expect stood after the last run, if they do.
	Expectations *ExpectationsHeld `json:"expectations,omitempty" doc:"How what the active settings expect stood when it was looked at last, after a run or an activation"`
	// NoticesStuck is why people cannot be told.
	NoticesStuck string `json:"noticesStuck,omitempty" doc:"Why notices do not get through"`
}

// FirstDay is how far an installation is on its way from an empty service to people who are
// kept in step.
type FirstDay struct {
	Steps []FirstDayStep `json:"steps"`
	Next  string         `json:"next,omitempty" doc:"The key of the step to take now; absent where all are done"`
	Begun bool           `json:"begun" doc:"All is done that the first run needs"`
}

// FirstDayStep is one step; none is remembered, each is looked at.
type FirstDayStep struct {
	Key       string `json:"key" doc:"Names the place where it is done"`
	Text      string `json:"text" doc:"What is so once it is done"`
	Done      bool   `json:"done"`
	Detail    string `json:"detail,omitempty" doc:"How it stands now"`
	Do        string `json:"do,omitempty" doc:"What to do, with the command for it; absent once it is done"`
	Directory string `json:"directory,omitempty" doc:"The first directory that is not as far"`
	Later     bool   `json:"later,omitempty" doc:"The first run does not need it"`
}

// Checkup says how an installation stands.
type Checkup struct {
	At      time.Time        `json:"at"`
	Version string           `json:"version" doc:"Of the service"`
	Outcome string           `json:"outcome" enum:"good,doubtful,bad" doc:"The worst of the steps"`
	Steps   []orders.Verdict `json:"steps"`
}

// SignIns is what is to be told of who signed in or tried to.
type SignIns struct {
	Refused   int      `json:"refused,omitempty" doc:"Attempts that were refused within the last hour"`
	Names     []string `json:"names,omitempty" doc:"Whose names were tried, the most tried first"`
	Addresses []string `json:"addresses,omitempty" doc:"From where"`
	Emergency []string `json:"emergency,omitempty" doc:"Uses of accounts for emergencies within the last day, in words"`
}

// Certificate is one that ends soon.
type Certificate struct {
	About   about.Thing `json:"about" doc:"Of a service the key is its URL"`
	Expires time.Time   `json:"expires"`
}

// TrendDay is how things went on a day, in UTC.
type TrendDay struct {
	Day      string  `json:"day" format:"date"`
	Runs     int     `json:"runs" doc:"That write and have ended"`
	Failed   int     `json:"failed"`
	Created  int     `json:"created"`
	Adopted  int     `json:"adopted"`
	Updated  int     `json:"updated"`
	Restored int     `json:"restored"`
	Removed  int     `json:"removed" doc:"Suspended or deleted"`
	Held     int     `json:"held" doc:"The most changes that a run held"`
	Longest  float64 `json:"longest" doc:"How long the longest run took, in seconds"`
	Opened   int     `json:"opened" doc:"Problems"`
	Closed   int     `json:"closed"`
	Open     int     `json:"open" doc:"Problems that were open at its end"`
}

// CodeCount is how many open problems have a code.
type CodeCount struct {
	Code  string `json:"code"`
	Title string `json:"title"`
	Count int    `json:"count"`
	// Asleep are those of them that somebody has put to sleep.
	Asleep int `json:"asleep,omitempty"`
}

// ObjectCounts tells how many objects are where.
type ObjectCounts struct {
	Entries   int `json:"entries" doc:"People in the directories"`
	Linked    int `json:"linked" doc:"People with a resource"`
	Suspended int `json:"suspended" doc:"Of these, those who left"`
	Groups    int `json:"groups" doc:"Groups with a resource"`
	Contacts  int `json:"contacts" doc:"Contacts with a resource"`
	CloudOnly int `json:"cloudOnly" doc:"Resources that no entry owns"`
	Dirty     int `json:"dirty" doc:"Entries the next run looks at"`
}

// CloudState is what is known about the cloud.
type CloudState struct {
	URL      string     `json:"url"`
	LastRead *time.Time `json:"lastRead,omitempty"`

	RequestsPerMinute int `json:"requestsPerMinute,omitempty" doc:"How many requests the cloud takes, by the settings or by what it has said; absent where no limit is known"`
}

// DirectoryState is what is known about one directory.
type DirectoryState struct {
	Name     string     `json:"name"`
	Dialect  string     `json:"dialect"`
	Base     string     `json:"base"`
	Entries  int        `json:"entries"`
	LastRead *time.Time `json:"lastRead,omitempty"`
	Agents   int        `json:"agents" doc:"Agents online that serve it"`
	Missed   int        `json:"missed,omitempty" doc:"Changes that it had not told, as was found in the last week"`
}

// ExpectationsHeld is how what the active settings expect stands.
type ExpectationsHeld struct {
	Failing int       `json:"failing" doc:"How many do not hold"`
	Told    string    `json:"told,omitempty" doc:"The first of them, in words"`
	Looked  time.Time `json:"looked"`
}
