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

func (s *Server) routes() []route {
	get, post := http.MethodGet, http.MethodPost
	return []route{
		{method: get, path: "/version", id: "getVersion", summary: "What is running here", response: api.Version{}, handle: s.version},
		{method: get, path: "/openapi.json", id: "getOpenAPI", summary: "This document", content: "application/json", handle: s.openapi},
		{method: post, path: "/session", id: "signIn", summary: "Exchange the code of a one-time link for a cookie", open: true, request: api.SignIn{}, status: 204, handle: s.signIn},
		{method: post, path: "/session/link", id: "makeSignInLink", summary: "Make a one-time link to the console", status: 201, response: api.SignInLink{}, handle: s.makeLink},
		{method: get, path: "/doctor", id: "getDoctor", summary: "Whether this machine has what bouts need", response: api.Report{}, handle: s.doctor},
		{method: post, path: "/prune", id: "prune", summary: "Free workspaces and caches that no record needs", response: api.Pruned{}, handle: s.prune},
		{method: get, path: "/contests", id: "listContests", summary: "All contests, the newest first", response: []api.Contest{}, handle: s.listContests},
		{method: post, path: "/contests", id: "startContest", summary: "Start a contest, or only say what it would run (dry_run)", request: api.StartContest{}, status: 201, response: api.ContestDetail{},
			more: map[int]string{200: "Plan"}, handle: s.startContest},
		{method: get, path: "/contests/{id}", id: "getContest", summary: "One contest with its bouts and standings", response: api.ContestDetail{}, handle: s.getContest},
		{method: post, path: "/contests/{id}/stop", id: "stopContest", summary: "Stop a contest; what has not ended is void", status: 204, handle: s.stopContest},
		{method: get, path: "/contests/{id}/standings", id: "getStandings", summary: "The table of contenders", response: api.Standings{}, handle: s.getStandings},
		{method: get, path: "/contests/{id}/events", id: "followContest", summary: "The live feed: server-sent events with ids; Last-Event-ID or after continues it",
			query: []param{{name: "after", description: "Continue behind this event id."}}, content: "text/event-stream", handle: s.events},
		{method: get, path: "/bouts", id: "listBouts", summary: "Bouts, of all contests or of one", query: filterParams, response: []api.Bout{}, handle: s.listBouts},
		{method: get, path: "/bouts/{id}", id: "getBout", summary: "One bout with its checks",
			query: []param{{name: "tests", description: "Which tests are listed: those that did not pass (default), or all.", values: []string{"notable", "all"}}}, response: api.BoutDetail{}, handle: s.getBout},
		{method: post, path: "/bouts/{id}/stop", id: "stopBout", summary: "Stop a bout; it is void and not run again", status: 204, handle: s.stopBout},
		{method: get, path: "/bouts/{id}/diff", id: "getDiff", summary: "The captured change, file by file", response: api.Diff{}, handle: s.getDiff},
		{method: get, path: "/bouts/{id}/patch", id: "getPatch", summary: "The captured change as git applies it", content: "text/x-diff", handle: s.getPatch},
		{method: get, path: "/bouts/{id}/log", id: "getLog", summary: "What the tool printed", content: "text/plain", handle: s.getLog},
		{method: get, path: "/bouts/{id}/checks/{check}/log", id: "getCheckLog", summary: "What a check printed", content: "text/plain", handle: s.getCheckLog},
		{method: get, path: "/tasks", id: "listTasks", summary: "Tasks that contests have recorded, each as last used", response: []api.Task{}, handle: s.listTasks},
		{method: get, path: "/tasks/{slug}", id: "getTask", summary: "One task as last used", response: api.Task{}, handle: s.getTask},
		{method: get, path: "/contenders", id: "listContenders", summary: "Contenders that contests have recorded, each as last used", response: []api.Contender{}, handle: s.listContenders},
		{method: get, path: "/contenders/{slug}", id: "getContender", summary: "One contender as last used", response: api.Contender{}, handle: s.getContender},
		{method: post, path: "/contenders/{slug}/check", id: "checkContender", summary: "Whether a contender can start on the service's machine", request: api.CheckContender{}, response: api.Report{}, handle: s.checkContender},
	}
}
