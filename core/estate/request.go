package estate

import (
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/hpke"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"timegate/core/gate"
	"timegate/core/phrase"
)

// ForRequest and ForAnswer are the purposes of a [Request], which is signed as a bundle is,
// and of an [Answer], which its workstation signs.
const (
	ForRequest Purpose = "request"
	ForAnswer  Purpose = "answer"
)

// Ask is what a workstation is asked for.
type Ask string

// What can be asked for. All but AskWhy are done only where the workstation's own settings
// permit it.
const (
	AskWhy    Ask = "why"    // of a gate
	AskOpen   Ask = "open"   // a gate
	AskStop   Ask = "stop"   // the runs of a gate
	AskPause  Ask = "pause"  // for a duration, or until it is resumed
	AskResume Ask = "resume" // from a pause
	AskSend   Ask = "send"   // a signal
	AskOutput Ask = "output" // of a run, or of a gate's last one
)

// Details is the permission to tell what people do on a workstation: reasons in words, with
// their paths, command lines and names of accounts.
const Details = "details"

// Permissions are what a workstation's own settings can permit.
func Permissions() []string {
	return []string{string(AskOpen), string(AskStop), string(AskPause), string(AskSend), string(AskOutput), Details}
}

// permission is what must be permitted; "" for nothing.
func (a Ask) permission() string {
	switch a {
	case AskWhy:
		return ""
	case AskResume:
		return string(AskPause)
	}
	return string(a)
}

// Fits reports whether something can be asked for of something.
func (a Ask) Fits(of string) bool {
	switch a {
	case AskWhy, AskOpen, AskStop, AskSend:
		return gate.ValidName(of)
	case AskPause:
		d, err := phrase.ParseSpan(of)
		return of == "" || err == nil && d > 0
	case AskResume:
		return of == ""
	case AskOutput:
		n, err := strconv.ParseInt(of, 10, 64)
		return err == nil && n > 0 || gate.ValidName(of)
	}
	return false
}

// Request asks one workstation for something, once, within minutes.
type Request struct {
	Shop    string    `json:"shop"`
	Host    string    `json:"host"`
	ID      string    `json:"id"`    // by chance: no two are the same
	Desk    string    `json:"desk"`  // by chance: where the answer is waited for
	Reply   []byte    `json:"reply"` // the key for the answer, which nobody else can read: X25519 (RFC 9180, section 4.1)
	Made    time.Time `json:"made"`
	Expires time.Time `json:"expires"`
	Do      Ask       `json:"do"`
	Of      string    `json:"of"` // what [Ask.Fits]
}

const (
	// RequestLife is how long a request is good for at most.
	RequestLife = 5 * time.Minute
	// clocksApart is how much a workstation's clock may be behind.
	clocksApart = 2 * time.Minute
	idSize      = 26 // letters and digits: 128 bits by chance
)

func validID(text string) bool {
	return len(text) == idSize && !strings.ContainsFunc(text, func(r rune) bool { return (r < 'A' || r > 'Z') && (r < '2' || r > '7') })
}

// DecodeRequest reads the body of a sealed request.
func DecodeRequest(body []byte) (*Request, error) {
	var r Request
	if err := decode(body, &r); err != nil {
		return nil, damaged("it is no request: %v", err)
	}
	if !validID(r.ID) || !validID(r.Desk) || !r.Do.Fits(r.Of) || r.Expires.Sub(r.Made) > RequestLife {
		return nil, damaged("it is no request: %.40q of %.80q", r.Do, r.Of)
	}
	if _, err := answerKEM().NewPublicKey(r.Reply); err != nil {
		return nil, damaged("its key for the answer is none")
	}
	return &r, nil
}

// Refused says why a workstation does not do what it is asked for at an instant; nil where it
// may. Its error is a [*MessageError].
func (r *Request) Refused(by Holder, permitted []string, now time.Time) error {
	switch p := r.Do.permission(); {
	case r.Shop != by.Shop:
		return &MessageError{OtherShop, "it is a request of another shop"}
	case r.Host != by.Host:
		return &MessageError{NotForUs, "it is a request to another workstation"}
	case !now.Before(r.Expires), now.Before(r.Made.Add(-clocksApart)):
		return &MessageError{Expired, "it is good from " + r.Made.Format(time.RFC3339) + " to " + r.Expires.Format(time.RFC3339) + ", and here it is " + now.UTC().Format(time.RFC3339)}
	case p != "" && !slices.Contains(permitted, p):
		return &MessageError{NotPermitted, "the settings of this workstation do not permit " + p}
	}
	return nil
}

// Asked is what a workstation remembers of requests, so that each is done once.
type Asked struct {
	List []AskedOne `json:"list,omitempty"` // the latest last
	Past time.Time  `json:"past,omitzero"`  // what was made until then is not remembered, and not done
}

// AskedOne is a request that was made of a workstation.
type AskedOne struct {
	ID      string    `json:"id"`
	Do      Ask       `json:"do"`
	Of      string    `json:"of"`
	At      time.Time `json:"at"`
	Made    time.Time `json:"made"`
	Expires time.Time `json:"expires"`
	Code    string    `json:"code"` // why it was not done; "" where it was
}

// How many requests are remembered: those that could come again, and the latest to look at.
const (
	mostAsked   = 500
	latestAsked = 20
)

// Take remembers a request with the code that it is refused with, or refuses one that was
// taken already, as may be so also where the clock was set back. Its error is a
// [*MessageError].
func (a *Asked) Take(r *Request, code string, now time.Time) error {
	for len(a.List) > latestAsked && now.After(a.List[0].Expires) {
		if a.List[0].Made.After(a.Past) {
			a.Past = a.List[0].Made
		}
		a.List = a.List[1:]
	}
	switch {
	case !r.Made.After(a.Past), slices.ContainsFunc(a.List, func(one AskedOne) bool { return one.ID == r.ID }):
		return &MessageError{Twice, "it was taken already"}
	case len(a.List) >= mostAsked:
		return &MessageError{Busy, "too much is asked for at once"}
	}
	a.List = append(a.List, AskedOne{r.ID, r.Do, r.Of, now.UTC(), r.Made, r.Expires, code})
	return nil
}

// Answer is what came of a request. Whoever carries it cannot read it.
type Answer struct {
	Shop    string    `json:"shop"`
	Host    string    `json:"host"`
	ID      string    `json:"id"` // of the request
	At      time.Time `json:"at"`
	Code    string    `json:"code"`    // why it was not done; "" where it was
	Status  int       `json:"status"`  // of the program, as if it had been called there
	Text    string    `json:"text"`    // what it printed: of more than [MostText], the end
	Moments []Moment  `json:"moments"` // of why, where the workstation does not permit [Details]
}

// MostText is how many bytes of text an answer has at most.
const MostText = 256 << 10

// Moment is one of those at which something was decided about a gate, the latest first.
type Moment struct {
	Opening string       `json:"opening"` // its name; "" for a start by hand
	Due     time.Time    `json:"due"`
	Steps   []MomentStep `json:"steps"`
}

// MomentStep is what was decided, with the code of the reason.
type MomentStep struct {
	At       time.Time `json:"at"`
	Decision string    `json:"decision"`
	Run      int64     `json:"run,omitempty"`
	Result   string    `json:"result,omitempty"`
	Rule     string    `json:"rule,omitempty"` // the key of the gate's file that has decided
	Code     string    `json:"code"`
}

// answerKEM, and the rest of how answers are encrypted (HPKE, RFC 9180).
func answerKEM() hpke.KEM { return hpke.DHKEM(ecdh.X25519()) }

// answerInfo binds what is encrypted to its request.
func (r *Request) answerInfo() []byte { return []byte("timegate answer 1\n" + r.ID) }

// NewReply makes a key for answers, and what a request says of it.
func NewReply() (hpke.PrivateKey, []byte, error) {
	key, err := answerKEM().GenerateKey()
	if err != nil {
		return nil, nil, err
	}
	return key, key.PublicKey().Bytes(), nil
}

// Seal encrypts an answer to a request for the one who has asked, and signs it with the
// workstation's key.
func (a *Answer) Seal(r *Request, key ed25519.PrivateKey) ([]byte, error) {
	body, err := json.Marshal(a)
	if err != nil {
		return nil, err
	}
	to, err := answerKEM().NewPublicKey(r.Reply)
	if err != nil {
		return nil, err
	}
	secret, err := hpke.Seal(to, hpke.HKDFSHA256(), hpke.AES256GCM(), r.answerInfo(), body)
	if err != nil {
		return nil, err
	}
	return Seal(ForAnswer, secret, key)
}

// OpenAnswer reads what has come as the answer to a request, of the workstation with a key.
func OpenAnswer(raw []byte, r *Request, host ed25519.PublicKey, reply hpke.PrivateKey) (*Answer, error) {
	secret, _, err := Unseal(ForAnswer, raw, []ed25519.PublicKey{host}, 1)
	if err != nil {
		return nil, err
	}
	body, err := hpke.Open(reply, hpke.HKDFSHA256(), hpke.AES256GCM(), r.answerInfo(), secret)
	if err != nil {
		return nil, damaged("it is not the answer to this request")
	}
	var a Answer
	if err := decodeTold(body, &a); err != nil {
		return nil, damaged("it is no answer: %v", err)
	}
	if a.Shop != r.Shop || a.Host != r.Host || a.ID != r.ID || len(a.Text) > MostText || len(a.Moments) > mostOf {
		return nil, damaged("it is the answer to another request")
	}
	return &a, nil
}
