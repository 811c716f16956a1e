package service

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"agonometer/internal/api"
)

// param is a query parameter of a route.
type param struct {
	name, description string
	values            []string
}

// route is one operation of the API. The table of routes is the one source of
// both the router and the OpenAPI document.
type route struct {
	method, path, id, summary string
	open                      bool // needs no token
	query                     []param
	request                   any
	status                    int
	response                  any    // a JSON answer, or
	content                   string // the media type of any other
	more                      map[int]string
	handle                    gin.HandlerFunc
}

var filterParams = []param{
	{name: "contest", description: "Only bouts of this contest (id)."},
	{name: "task", description: "Only bouts on this task (slug)."},
	{name: "contender", description: "Only bouts of this contender (slug)."},
}

var pricesParam = param{name: "prices", description: "The digest of a price list that was sent to /price-lists, in place of the contest's own."}

var roundParam = param{name: "round", description: "A round by its number; default: the last."}

func (s *Server) routes() []route {
	get, post := http.MethodGet, http.MethodPost
	return []route{
		{method: get, path: "/version", id: "getVersion", summary: "What is running here", response: api.Version{}, handle: s.version},
		{method: get, path: "/openapi.json", id: "getOpenAPI", summary: "This document", content: "application/json", handle: s.openapi},
		{method: post, path: "/session", id: "signIn", summary: "Exchange the code of a one-time link for a cookie", open: true, request: api.SignIn{}, status: 204, handle: s.signIn},
		{method: post, path: "/session/link", id: "makeSignInLink", summary: "Make a one-time link to the console", status: 201, response: api.SignInLink{}, handle: s.makeLink},
		{method: get, path: "/doctor", id: "getDoctor", summary: "Whether this machine has what bouts need", response: api.Report{}, handle: s.doctor},
		{method: post, path: "/prune", id: "prune", summary: "Free workspaces and caches that no record needs", response: api.Pruned{}, handle: s.prune},
		{method: get, path: "/contests", id: "listContests", summary: "All contests, the newest first",
			query: []param{{name: "kind", description: "all lists also what holds bouts that stand alone.", values: []string{"all"}}}, response: []api.Contest{}, handle: s.listContests},
		{method: post, path: "/contests", id: "startContest", summary: "Start a contest, or only say what it would run (dry_run)", request: api.StartContest{}, status: 201, response: api.ContestDetail{},
			more: map[int]string{200: "Plan"}, handle: s.startContest},
		{method: get, path: "/contests/{id}", id: "getContest", summary: "One contest with its bouts and standings", query: []param{pricesParam}, response: api.ContestDetail{}, handle: s.getContest},
		{method: post, path: "/contests/{id}/stop", id: "stopContest", summary: "Stop a contest; what has not ended is void", status: 204, handle: s.stopContest},
		{method: get, path: "/contests/{id}/standings", id: "getStandings", summary: "The table of contenders", query: []param{pricesParam}, response: api.Standings{}, handle: s.getStandings},
		{method: get, path: "/contests/{id}/events", id: "followContest", summary: "The live feed: server-sent events with ids; Last-Event-ID or after continues it",
			query: []param{{name: "after", description: "Continue behind this event id."}}, content: "text/event-stream", handle: s.events},
		{method: post, path: "/contests/{id}/rejudge", id: "rejudgeContest", summary: "Judge a contest's stored changes again, with the present task files", request: api.RejudgeContest{}, status: 201, response: api.Rejudging{}, handle: s.rejudgeContest},
		{method: get, path: "/contests/{id}/rejudgings", id: "listRejudgings", summary: "The judgings again of a contest, the newest first", response: []api.Rejudging{}, handle: s.listRejudgings},
		{method: post, path: "/bouts/import", id: "importBout", summary: "Take a change that was made elsewhere, to be judged like any other", request: api.ImportBout{}, status: 201, response: api.Bout{}, handle: s.importBout},
		{method: get, path: "/bouts", id: "listBouts", summary: "Bouts, of all contests or of one", query: append(filterParams, pricesParam), response: []api.Bout{}, handle: s.listBouts},
		{method: get, path: "/bouts/{id}", id: "getBout", summary: "One bout with its checks",
			query: []param{{name: "tests", description: "Which tests are listed: those that did not pass (default), or all.", values: []string{"notable", "all"}}, pricesParam}, response: api.BoutDetail{}, handle: s.getBout},
		{method: post, path: "/bouts/{id}/stop", id: "stopBout", summary: "Stop a bout; it is void and not run again", status: 204, handle: s.stopBout},
		{method: get, path: "/bouts/{id}/measures", id: "getMeasures", summary: "The edit measures of a bout, with their evidence", query: []param{roundParam}, response: api.EditMeasures{}, handle: s.getEdits},
		{method: post, path: "/bouts/{id}/measures", id: "measureAgain", summary: "Work the edit measures out anew, from what was stored", response: api.EditMeasures{}, handle: s.measureAgain},
		{method: post, path: "/bouts/{id}/measures/{finding}", id: "markFinding", summary: "Set a finding aside as a false alarm, or say of a stray file what it is", request: api.MarkEdit{}, response: api.EditMeasures{}, handle: s.markEdit},
		{method: get, path: "/comparison", id: "compareBouts", summary: "Two to four results of one task next to each other",
			query: []param{{name: "bouts", description: "The bouts' ids, separated by commas."}, {name: "reference", description: "Whether the task's reference stands beside them.", values: []string{"yes"}}}, response: api.Comparison{}, handle: s.compare},
		{method: get, path: "/bouts/{id}/diff", id: "getDiff", summary: "The captured change, file by file", query: []param{roundParam}, response: api.Diff{}, handle: s.getDiff},
		{method: get, path: "/bouts/{id}/patch", id: "getPatch", summary: "The captured change as git applies it", query: []param{roundParam}, content: "text/x-diff", handle: s.getPatch},
		{method: get, path: "/bouts/{id}/log", id: "getLog", summary: "What the tool printed", query: []param{roundParam}, content: "text/plain", handle: s.getLog},
		{method: get, path: "/bouts/{id}/recording", id: "getRecording", summary: "What a terminal showed, as an asciicast (version 2)", query: []param{roundParam}, content: "application/x-asciicast", handle: s.getRecording},
		{method: get, path: "/bouts/{id}/checks/{check}/log", id: "getCheckLog", summary: "What a check printed", query: []param{roundParam, {name: "way", description: "Which run of the check.", values: []string{"deciding", "visible", "again", "own-tests"}}}, content: "text/plain", handle: s.getCheckLog},
		{method: get, path: "/bouts/{id}/ledger", id: "getBoutLedger", summary: "What a bout used, exchange by exchange", query: []param{pricesParam}, response: api.BoutLedger{}, handle: s.getBoutLedger},
		{method: get, path: "/bouts/{id}/timeline", id: "getTimeline", summary: "What happened in a bout, on its clock",
			query: []param{{name: "after", description: "Only what is behind this event."}}, response: api.Timeline{}, handle: s.getTimeline},
		{method: get, path: "/bouts/{id}/exchanges/{number}/{side}", id: "getBody", summary: "What was sent (side: request) or came back (reply) in an exchange, where bodies are kept", content: "text/plain", handle: s.getBody},
		{method: get, path: "/contests/{id}/ledger", id: "getContestLedger", summary: "What a contest used, by contender", query: []param{pricesParam}, response: api.ContestLedger{}, handle: s.getContestLedger},
		{method: post, path: "/price-lists", id: "addPriceList", summary: "Take a price list, to work money out by", request: api.PriceListFile{}, status: 201, response: api.StoredPriceList{}, handle: s.addPriceList},
		{method: get, path: "/hand", id: "listHands", summary: "Bouts that persons are working on", response: []api.Hand{}, handle: s.listHands},
		{method: post, path: "/hand", id: "startHand", summary: "Make the workspace of a bout that a person works: the next of a contest, or one that stands alone", request: api.StartHand{}, status: 201, response: api.Hand{}, handle: s.startHand},
		{method: get, path: "/hand/{id}", id: "getHand", summary: "A bout that a person works, as they see it", response: api.Hand{}, handle: s.getHand},
		{method: post, path: "/hand/{id}/begin", id: "beginHand", summary: "Start the clock of a round: the words have been handed over", request: api.BeginHand{}, response: api.Hand{}, handle: s.beginHand},
		{method: post, path: "/hand/{id}/pause", id: "pauseHand", summary: "Stop the clock for a while", response: api.Hand{}, handle: s.pauseHand},
		{method: post, path: "/hand/{id}/resume", id: "resumeHand", summary: "Let the clock run on", response: api.Hand{}, handle: s.resumeHand},
		{method: post, path: "/hand/{id}/finish", id: "finishHand", summary: "End a round: capture and judge what is there", request: api.FinishHand{}, response: api.Hand{}, handle: s.finishHand},
		{method: post, path: "/hand/{id}/end", id: "endHand", summary: "End a bout whose round failed, without another round", response: api.Hand{}, handle: s.endHand},
		{method: post, path: "/hand/{id}/discard", id: "discardHand", summary: "Throw a bout away, with a reason", request: api.DiscardHand{}, response: api.Hand{}, handle: s.discardHand},
		{method: post, path: "/hand/{id}/marks", id: "addMark", summary: "Note something", request: api.AddMark{}, response: api.Hand{}, handle: s.addMark},
		{method: post, path: "/hand/{id}/end-span", id: "endSpan", summary: "End the open mark of a kind", request: api.EndSpan{}, response: api.Hand{}, handle: s.endSpan},
		{method: post, path: "/hand/{id}/marks/{mark}", id: "correctMark", summary: "Correct a mark, or take it back; the original stays on record", request: api.CorrectMark{}, response: api.Hand{}, handle: s.correctMark},
		{method: post, path: "/hand/{id}/used", id: "usedHand", summary: "Tell what is known of tokens, money or keys", request: api.UsedHand{}, response: api.Hand{}, handle: s.usedHand},
		{method: get, path: "/tasks", id: "listTasks", summary: "Tasks that contests have recorded, each as last used", response: []api.Task{}, handle: s.listTasks},
		{method: get, path: "/tasks/{slug}", id: "getTask", summary: "One task as last used", response: api.Task{}, handle: s.getTask},
		{method: post, path: "/provings", id: "proveTask", summary: "Prove a task: that the start fails its goals, and the reference passes", request: api.ProveTask{}, status: 201, response: api.Proving{}, handle: s.proveTask},
		{method: get, path: "/survey", id: "surveyHistory", summary: "Which commits of a repository's history may make tasks", query: []param{{name: "repository", description: "A path on the service's machine, or a git URL."},
			{name: "revision", description: "Where the history ends; default HEAD."}, {name: "since", description: "Commits since a date, as git reads it."}, {name: "scan", description: "How many commits are looked at, at most 20000; default 1000."}}, response: api.Survey{}, handle: s.surveyHistory},
		{method: get, path: "/provings", id: "listProvings", summary: "Provings, the newest first", query: []param{{name: "task", description: "Only those of this task (slug)."}}, response: []api.Proving{}, handle: s.listProvings},
		{method: get, path: "/provings/{id}", id: "getProving", summary: "One proving with its tests", response: api.Proving{}, handle: s.getProving},
		{method: get, path: "/provings/{id}/log", id: "getProvingLog", summary: "What a command printed that failed in a proving", query: []param{{name: "step", description: "The step; the first with an output where it is left out."}}, content: "text/plain", handle: s.getProvingLog},
		{method: get, path: "/provings/{id}/events", id: "followProving", summary: "The live feed: the proving each time it has got further", content: "text/event-stream", handle: s.followProving},
		{method: post, path: "/provings/{id}/stop", id: "stopProving", summary: "Stop a proving", status: 204, handle: s.stopProving},
		{method: post, path: "/drafts", id: "draftTask", summary: "Draft a task from a commit; nothing is stored", request: api.DraftTask{}, response: api.Draft{}, handle: s.draftTask},
		{method: get, path: "/contenders", id: "listContenders", summary: "Contenders that contests have recorded, each as last used", response: []api.Contender{}, handle: s.listContenders},
		{method: get, path: "/contenders/{slug}", id: "getContender", summary: "One contender as last used", response: api.Contender{}, handle: s.getContender},
		{method: post, path: "/contenders/{slug}/check", id: "checkContender", summary: "Whether a contender can start on the service's machine", request: api.CheckContender{}, response: api.Report{}, handle: s.checkContender},
	}
}
