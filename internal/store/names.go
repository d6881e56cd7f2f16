package store

import (
	"github.com/illumicode/illumicode/internal/store/addresses"
	"github.com/illumicode/illumicode/internal/store/challenges"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/store/feedback"
	"github.com/illumicode/illumicode/internal/store/limits"
	"github.com/illumicode/illumicode/internal/store/queue"
)

// The rows, and the words in them, are described in their rooms.
type (
	Attachment = queue.Attachment
	Attempt    = queue.Attempt
	Beginning  = queue.Beginning
	ClaimKey   = queue.ClaimKey
	Delivery   = queue.Delivery
	End        = queue.End
	Event      = queue.Event
	Fanout     = queue.Fanout
	Filter     = queue.Filter
	Lane       = queue.Lane
	Load       = queue.Load
	Mark       = queue.Mark
	Once       = queue.Once
	Pause      = queue.Pause
	Person     = queue.Person
	Piece      = queue.Piece
	Spool      = queue.Spool
	Preference = queue.Preference
	Reach      = queue.Reach
	Recall     = queue.Recall
	Recalled   = queue.Recalled
	Arrival    = queue.Arrival
	Recovered  = queue.Recovered
	Sequel     = queue.Sequel
	Ending     = queue.Ending
	Unheard    = queue.Unheard
	State      = queue.State
	Summary    = queue.Summary
	Worker     = queue.Worker
	Carried    = queue.Carried

	Browser      = challenges.Browser
	Challenge    = challenges.Challenge
	Registration = challenges.Registration
	TryBudget    = challenges.TryBudget

	Spelling    = addresses.Spelling
	Address     = addresses.Address
	Backfill    = addresses.Backfill
	Change      = addresses.Change
	ChangeState = addresses.ChangeState
	Standing    = addresses.Standing
	Step        = addresses.Step

	Feedback      = feedback.Feedback
	FeedbackCount = feedback.FeedbackCount
	FeedbackState = feedback.FeedbackState
	Scope         = feedback.Scope
	Suppression   = feedback.Suppression

	Pace  = limits.Pace
	Share = limits.Share
	Swap  = limits.Swap
	Tally = limits.Tally
	Way   = limits.Way
)

const (
	Held          = queue.Held
	Waiting       = queue.Waiting
	Claimed       = queue.Claimed
	Sent          = queue.Sent
	Withheld      = queue.Withheld
	Failed        = queue.Failed
	Unknown       = queue.Unknown
	Cancelled     = queue.Cancelled
	Expired       = queue.Expired
	Suppressed    = queue.Suppressed
	Urgent        = queue.Urgent
	Normal        = queue.Normal
	Bulk          = queue.Bulk
	Version       = queue.Version
	Knows         = queue.Knows
	SharedVersion = queue.SharedVersion
	SentAgain     = queue.SentAgain

	Arrived        = queue.Arrived
	ArrivedPerhaps = queue.ArrivedPerhaps
	NotArrived     = queue.NotArrived
	HeldAsked      = queue.HeldAsked
	HeldGuard      = queue.HeldGuard
	HeldFrozen     = queue.HeldFrozen
	SettingSite    = queue.SettingSite
	PieceSize      = queue.PieceSize
	Lost           = queue.Lost

	MostBrowsers = challenges.MostBrowsers

	Others = addresses.Others
	Had    = addresses.Had
	Took   = addresses.Took

	Unconfirmed = addresses.Unconfirmed
	Confirmed   = addresses.Confirmed
	Stale       = addresses.Stale
	Bounced     = addresses.Bounced
	Silenced    = addresses.Silenced
	Pending     = addresses.Pending
	Made        = addresses.Made
	Stopped     = addresses.Stopped
	Frozen      = addresses.Frozen
	Settled     = addresses.Settled

	FeedbackWaiting = feedback.FeedbackWaiting
	FeedbackApplied = feedback.FeedbackApplied
	FeedbackAside   = feedback.FeedbackAside
	FromMail        = feedback.FromMail
	AllLetters      = feedback.AllLetters
	BouncedOnce     = feedback.BouncedOnce
	NoticesOnly     = feedback.NoticesOnly

	MostSwaps = limits.MostSwaps
)

var (
	States      = queue.States
	Lanes       = queue.Lanes
	PauseKinds  = queue.PauseKinds
	ErrFenced   = queue.ErrFenced
	ErrRecall   = queue.ErrRecall
	ErrGivenUp  = queue.ErrGivenUp
	ErrTooLarge = queue.ErrTooLarge

	Quiet    = db.Quiet
	ReadData = queue.ReadData

	ErrNotFound    = db.ErrNotFound
	ErrVersion     = db.ErrVersion
	ErrNotMigrated = db.ErrNotMigrated
	ErrNewer       = db.ErrNewer
	ErrDatabase    = db.ErrDatabase
	ErrData        = db.ErrData
	ErrFull        = db.ErrFull
)
