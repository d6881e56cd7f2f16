package challenges

import (
	"github.com/illumicode/illumicode/internal/store/db"
)

// Rows are the tables of this room in an open database. They are safe for concurrent use.
type Rows struct{ *db.Database }

// A Tx is them in a transaction.
type Tx struct{ db.Tx }

var _ = db.Hot(map[string]string{
	"challenge by id": selectChallenge, "register": register, "registered by one": onlyOne,
	"challenge by ticket, locked": lockByTicket, "challenge by ticket": selectByTicket, "spend a try": spendTry,
	"open challenge of a subject": selectOpen, "open challenge at a mailbox": selectOpenAt,
	"challenges lately": selectLately, "open challenges of a subject": openOf, "is any open": anyOpen, "accept": accept,
	"letters by network": lettersByNetwork, "registering at a mailbox": registering, "begun by a letter": selectBegunBy,
	"resend": resend, "hand over": handedOver, "lapsed": selectLapsed, "call off": callOff,
	"call off what changes wait for": callOffChanging, "wrong codes": selectFailure,
})
