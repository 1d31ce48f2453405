package wire

import (
	"time"

	"fado/internal/core/rollout"
)

// RolloutRules are how a rollout goes about it.
type RolloutRules struct {
	Trial           *bool    `json:"trial,omitempty" doc:"One device of each model goes first. It does unless this is false"`
	Waves           []string `json:"waves,omitempty" doc:"Sizes of the waves after the trial, each a count or a share of all; what is left is the last wave" example:"10%"`
	AtOnce          *int     `json:"at_once,omitempty" doc:"Updates under way at once, of units that do not sleep; 8"`
	PerSite         *int     `json:"per_site,omitempty" doc:"And of them at one site; 2"`
	Hours           string   `json:"hours,omitempty" doc:"In which updates begin, by each home's own clock" example:"01:00-05:00"`
	Days            []string `json:"days,omitempty" doc:"On which the hours open; none is each day" example:"sat"`
	PatienceMinutes *int     `json:"patience_minutes,omitempty" doc:"How long a wave waits for units that sleep; 60"`
	Share           *int     `json:"share,omitempty" doc:"Gate: percent that must have succeeded; 100"`
	SoakMinutes     *int     `json:"soak_minutes,omitempty" doc:"Gate: how long units are left alone before they are looked at; 15"`
	Returns         *int     `json:"returns,omitempty" doc:"Gate: how often each may come back online in that time; 1"`
	Health          *bool    `json:"health,omitempty" doc:"Gate: signal, memory and reading interval are no worse than before. They are looked at unless this is false"`
	Checks          *bool    `json:"checks,omitempty" doc:"Gate: the checks of commissioning hold. They are looked at unless this is false"`
}

// RolloutPlan is what a rollout is planned from.
type RolloutPlan struct {
	Name    string       `json:"name,omitempty"`
	Image   string       `json:"image,omitempty" doc:"To which image; or behind, or reverts"`
	Behind  bool         `json:"behind,omitempty" doc:"Each device that is behind, to what is intended for it"`
	Reverts string       `json:"reverts,omitempty" doc:"Each device that this rollout updated, back to what it had"`
	Sites   []string     `json:"sites,omitempty" doc:"Devices that match each of these that is given"`
	Room    string       `json:"room,omitempty"`
	Model   string       `json:"model,omitempty"`
	Tag     string       `json:"tag,omitempty"`
	Version string       `json:"version,omitempty" doc:"That they run"`
	Devices []string     `json:"devices,omitempty"`
	Exclude []string     `json:"exclude,omitempty"`
	Trials  []string     `json:"trials,omitempty" doc:"Devices that go first; else one of each model is suggested"`
	Rules   RolloutRules `json:"rules"`
}

// Rollout is an update of many devices.
type Rollout struct {
	ID        string         `json:"id"`
	Name      string         `json:"name"`
	Status    rollout.Status `json:"status" enum:"draft,running,paused,held,done,cancelled"`
	Actor     string         `json:"actor" doc:"Who planned it"`
	Reverts   string         `json:"reverts,omitempty" doc:"The rollout that it takes back"`
	Reason    string         `json:"reason,omitempty" doc:"Why it is paused, held or cancelled"`
	Devices   int            `json:"devices"`
	LeftOut   int            `json:"left_out" doc:"Devices that were selected and are no part of it"`
	Counts    map[string]int `json:"counts" doc:"Devices by outcome, or by how they stand"`
	Wave      int            `json:"wave" doc:"That is under way, from 0"`
	Phase     string         `json:"phase,omitempty" enum:"updating,soaking,looking,judged"`
	Next      string         `json:"next" doc:"What is next, in a sentence"`
	NextAt    *time.Time     `json:"next_at,omitempty"`
	Waves     []RolloutWave  `json:"waves"`
	Homes     []RolloutHome  `json:"homes,omitempty"`
	Rules     []RolloutRule  `json:"rules"`
	CreatedAt time.Time      `json:"created_at"`
	PlannedAt time.Time      `json:"planned_at"`
	StartedAt *time.Time     `json:"started_at,omitempty"`
	EndedAt   *time.Time     `json:"ended_at,omitempty"`
	EndsAt    *time.Time     `json:"ends_at,omitempty" doc:"When it should end, if each unit takes as long as it usually does"`
}

// RolloutRule is a rule in words.
type RolloutRule struct {
	Rule  string `json:"rule"`
	Value string `json:"value"`
}

// RolloutWave is a wave of a rollout.
type RolloutWave struct {
	Wave    int            `json:"wave"`
	Name    string         `json:"name"`
	Stands  string         `json:"stands" enum:"ahead,updating,soaking,looking,held,passed,left"`
	Devices int            `json:"devices"`
	Counts  map[string]int `json:"counts" doc:"Devices by outcome, or by how they stand"`
	Bytes   int64          `json:"bytes"`
	Begins  *time.Time     `json:"begins,omitempty" doc:"Expected, for one that is ahead"`
	Ends    *time.Time     `json:"ends,omitempty" doc:"Expected, with its soak"`
	Gates   []RolloutGate  `json:"gates"`
}

// RolloutGate is how a gate was looked at.
type RolloutGate struct {
	At         time.Time           `json:"at"`
	Held       bool                `json:"held" doc:"It did not hold"`
	Early      bool                `json:"early,omitempty" doc:"Before the wave was over: what went wrong was enough"`
	By         string              `json:"by,omitempty" doc:"Who let the rollout go on all the same"`
	Reason     string              `json:"reason,omitempty"`
	Conditions []rollout.Condition `json:"conditions"`
}

// RolloutHome is what a rollout takes through the uplink of one site.
type RolloutHome struct {
	Site    string `json:"site"`
	Name    string `json:"name"`
	Devices int    `json:"devices"`
	Bytes   int64  `json:"bytes"`
}

// RolloutUnit is one device in a rollout, or one that was left out.
type RolloutUnit struct {
	DeviceID     string     `json:"device_id"`
	Device       string     `json:"device"`
	Hostname     string     `json:"hostname"`
	Site         string     `json:"site"`
	Model        string     `json:"model"`
	Wave         int        `json:"wave" doc:"-1 for one that was left out"`
	WaveName     string     `json:"wave_name,omitempty"`
	Stands       string     `json:"stands" enum:"ahead,starting,under way,left out,succeeded,failed,reverted,skipped,lost"`
	Detail       string     `json:"detail,omitempty" doc:"What an update under way is at"`
	Why          string     `json:"why,omitempty" doc:"Of its outcome, or of its being left out"`
	From         string     `json:"from"`
	To           string     `json:"to,omitempty"`
	Image        string     `json:"image,omitempty"`
	Legs         int        `json:"legs,omitempty" doc:"Images on its route"`
	Route        string     `json:"route,omitempty" doc:"The versions on its route, in their order"`
	Bytes        int64      `json:"bytes,omitempty"`
	UsualSeconds float64    `json:"usual_seconds,omitempty"`
	Sleeps       bool       `json:"sleeps,omitempty"`
	Risky        bool       `json:"risky,omitempty" doc:"An interruption would leave it dead"`
	Attempt      int        `json:"attempt,omitempty"`
	TaskID       string     `json:"task_id,omitempty"`
	Began        *time.Time `json:"began,omitempty"`
	Ended        *time.Time `json:"ended,omitempty"`
}

// RolloutUnits is a page of the devices of a rollout.
type RolloutUnits struct {
	Units []RolloutUnit `json:"units"`
	Total int           `json:"total"`
	Next  int           `json:"next,omitempty" doc:"Give it as from to read on"`
}

// RolloutReport is all that is to be told of a rollout.
type RolloutReport struct {
	At      time.Time     `json:"at"`
	Made    *time.Time    `json:"-"`
	Rollout Rollout       `json:"rollout"`
	Units   []RolloutUnit `json:"units"`
	LeftOut []RolloutUnit `json:"left_out"`
	Events  []Event       `json:"events" doc:"Who did what, the oldest first"`
}

// Steering is what a person says to a rollout.
type Steering struct {
	Reason  string   `json:"reason,omitempty"`
	Devices []string `json:"devices,omitempty"`
}

// Alerts is where news of rollouts goes.
type Alerts struct {
	URL   string `json:"url,omitempty" doc:"A webhook"`
	Topic string `json:"topic,omitempty" doc:"On the service's broker"`
	Keyed bool   `json:"keyed" doc:"A key signs what is posted"`
}

// AlertsEdit says where news of rollouts goes.
type AlertsEdit struct {
	URL   string  `json:"url,omitempty"`
	Topic string  `json:"topic,omitempty"`
	Key   *string `json:"key,omitempty" writeOnly:"true" doc:"Signs what is posted (RFC 9421, hmac-sha256); left out, the one before stays"`
}
