// Package estate carries what many workstations are given together, and what they tell of
// it, over MQTT 5 (OASIS) and any broker that speaks it. It decides nothing
// ([timegate/core/estate]), and trusts the broker with nothing: who owns it can delay, and
// cannot change, forge or replay.
//
// On a workstation the network belongs to a process without rights ([Help]), which hands
// over bounded messages that nobody has looked at; the keeper's own process speaks to no
// network.
package estate

import (
	"slices"
	"strings"

	"timegate/core/estate"
)

// Topics of a shop, below "timegate/SHOP/". All but the echo, requests and answers are
// retained.
const (
	bundleTopic  = "bundle"  // the sealed bundle
	releaseTopic = "release" // the sealed release of it
	trialTopic   = "trial"   // a sealed bundle that is only tried out
	hostTopic    = "host/"   // HOST/report and so on
	echoTopic    = "echo/"   // comes back to the one who sent it
)

// What a workstation says of itself.
const (
	reportOf   = "/report"   // a sealed report
	onOf       = "/on"       // "on", or "off" as the broker says when the connection has broken
	joiningOf  = "/joining"  // a sealed request to be let in
	forecastOf = "/forecast" // a sealed forecast
	answerOf   = "/answer/"  // a sealed answer, with where it is waited for
)

// requestOf is what a workstation is asked for: a sealed request.
const requestOf = "/request"

func root(shop string) string { return "timegate/" + shop + "/" }

// hostOf returns the name and what is said of it, of a topic below a shop's.
func hostOf(topic string) (host, what string, ok bool) {
	rest, ok := strings.CutPrefix(topic, hostTopic)
	if !ok {
		return "", "", false
	}
	host, what, ok = strings.Cut(rest, "/")
	return host, "/" + what, ok && estate.ValidHost(host)
}

// stationTopics are what a workstation wants to be told.
func stationTopics(host string) []string {
	return []string{bundleTopic, releaseTopic, trialTopic, hostTopic + host + requestOf}
}

// MayUse reports whether somebody may write or read a topic: a workstation writes what it says
// of itself and reads what is for all, and a desk does the other half. A broker's rules are to
// be so.
func MayUse(shop, name string, desk bool, topic string, write bool) bool {
	rest, ok := strings.CutPrefix(topic, root(shop))
	if !ok {
		return false
	}
	forAll := slices.Contains([]string{bundleTopic, releaseTopic, trialTopic}, rest)
	own, isHost := strings.CutPrefix(rest, hostTopic)
	if desk {
		_, what, ok := hostOf(rest)
		return forAll || strings.HasPrefix(rest, echoTopic) || isHost && !write || ok && what == requestOf
	}
	what, isOwn := strings.CutPrefix(own, name)
	if isOwn = isHost && isOwn; write {
		return isOwn && (slices.Contains([]string{reportOf, onOf, joiningOf, forecastOf}, what) || strings.HasPrefix(what, answerOf))
	}
	return forAll || isOwn && what == requestOf
}

// clientMark stands in the identifier of a session between who has it and what tells its
// sessions apart. No name of a member has it.
const clientMark = ":"

// clientOf is an identifier of somebody's session, which nobody can guess who does not know
// the secret.
func clientOf(name, secret string) string { return name + clientMark + secret }

// OwnsClient reports whether an identifier of a session is somebody's own: who comes with
// another's would take their session. A broker's rules are to be so.
func OwnsClient(name, client string) bool {
	secret, ok := strings.CutPrefix(client, name+clientMark)
	return ok && name != "" && secret != ""
}

// How large what a workstation says may be, in bytes, beside its seal.
const (
	mostSealed = 16 << 10
	mostSaid   = 1 << 20
)

// SizeOf returns how many bytes a message of a topic may have, and whether a broker may keep
// it; none of a topic that is not known.
func SizeOf(shop, topic string) (bytes int, retained bool) {
	rest, ok := strings.CutPrefix(topic, root(shop))
	if !ok {
		return 0, false
	}
	if strings.HasPrefix(rest, echoTopic) {
		return mostSealed, false
	}
	_, what, isHost := hostOf(rest)
	switch {
	case !isHost:
		return estate.MostBytes, slices.Contains([]string{bundleTopic, releaseTopic, trialTopic}, rest)
	case what == onOf, what == joiningOf:
		return 2 * mostSealed, true
	case what == reportOf:
		return mostSaid, true
	case what == forecastOf:
		return estate.MostBytes, true
	case what == requestOf:
		return mostSaid, false
	}
	return estate.MostBytes, false // an answer
}

// WriterOf returns the workstation that writes what is kept of a topic, and "" where that is
// an administrator.
func WriterOf(shop, topic string) string {
	rest, _ := strings.CutPrefix(topic, root(shop))
	host, _, _ := hostOf(rest)
	return host
}
