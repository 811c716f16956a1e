package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"regexp"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/invopop/jsonschema"

	"agonometer/internal/api"
	"agonometer/internal/core/ledger"
)

var pathParam = regexp.MustCompile(`\{([a-z]+)\}`)

// OpenAPI is the OpenAPI 3.1 document of the API, made from the table of
// routes and the Go types that go over the wire.
func OpenAPI() ([]byte, error) {
	schemas, names := map[string]any{}, map[string]reflect.Type{}
	paths := map[string]map[string]any{}
	ref := func(v any) (map[string]any, error) {
		t := reflect.TypeOf(v)
		if t.Kind() == reflect.Slice {
			inner, err := addSchema(schemas, names, t.Elem())
			return map[string]any{"type": "array", "items": inner}, err
		}
		return addSchema(schemas, names, t)
	}
	if _, err := ref(api.ProblemDocument{}); err != nil {
		return nil, err
	}
	if _, err := ref(api.Plan{}); err != nil {
		return nil, err
	}
	if _, err := ref(api.FeedEvent{}); err != nil {
		return nil, err
	}
	for _, r := range (&Server{}).routes() {
		op := map[string]any{"operationId": r.id, "summary": r.summary}
		var params []any
		for _, m := range pathParam.FindAllStringSubmatch(r.path, -1) {
			params = append(params, map[string]any{"name": m[1], "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
		}
		for _, q := range r.query {
			schema := map[string]any{"type": "string"}
			if q.values != nil {
				schema["enum"] = q.values
			}
			params = append(params, map[string]any{"name": q.name, "in": "query", "description": q.description, "schema": schema})
		}
		if params != nil {
			op["parameters"] = params
		}
		if r.open {
			op["security"] = []any{}
		}
		if r.request != nil {
			schema, err := ref(r.request)
			if err != nil {
				return nil, err
			}
			op["requestBody"] = map[string]any{"required": true, "content": map[string]any{"application/json": map[string]any{"schema": schema}}}
		}
		answer := map[string]any{"description": r.summary}
		switch {
		case r.response != nil:
			schema, err := ref(r.response)
			if err != nil {
				return nil, err
			}
			answer["content"] = map[string]any{"application/json": map[string]any{"schema": schema}}
		case r.content != "":
			answer["content"] = map[string]any{r.content: map[string]any{"schema": map[string]any{"type": "string"}}}
		}
		responses := map[string]any{
			fmt.Sprint(r.success()): answer,
			"default":               map[string]any{"description": "A problem document", "content": map[string]any{"application/problem+json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/ProblemDocument"}}}},
		}
		for status, name := range r.more {
			responses[fmt.Sprint(status)] = map[string]any{"description": name, "content": map[string]any{"application/json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/" + name}}}}
		}
		op["responses"] = responses
		full := Prefix + r.path
		if paths[full] == nil {
			paths[full] = map[string]any{}
		}
		paths[full][strings.ToLower(r.method)] = op
	}
	doc := map[string]any{
		"openapi": "3.1.0",
		"info": map[string]any{"title": "Agonometer", "version": "1",
			"description": "Runs contests between coding assistants and tells how they went. Every call needs the service's token (Authorization: Bearer) or the console's cookie."},
		"paths":    paths,
		"security": []any{map[string]any{"token": []string{}}},
		"components": map[string]any{"schemas": schemas,
			"securitySchemes": map[string]any{"token": map[string]any{"type": "http", "scheme": "bearer"}}},
	}
	return json.MarshalIndent(doc, "", "  ")
}

// success is the status of a call that went well.
func (r route) success() int {
	if r.status == 0 {
		return http.StatusOK
	}
	return r.status
}

// addSchema reflects a type into the document's components and refers to it.
func addSchema(schemas map[string]any, names map[string]reflect.Type, t reflect.Type) (map[string]any, error) {
	var twice error
	reflector := jsonschema.Reflector{
		AllowAdditionalProperties: false, Anonymous: true,
		// One name is one shape: two types of one name in two packages would be taken for
		// each other. (Time is mapped below.)
		Namer: func(t reflect.Type) string {
			if other, taken := names[t.Name()]; taken && t.Name() != "" && t.Name() != "Time" && !other.ConvertibleTo(t) {
				twice = fmt.Errorf("two types are called %s: %s and %s", t.Name(), other.PkgPath(), t.PkgPath())
			}
			names[t.Name()] = t
			return t.Name()
		},
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			switch t {
			case reflect.TypeFor[api.Time]():
				return &jsonschema.Schema{Type: "string", Format: "date-time"}
			case reflect.TypeFor[ledger.Money]():
				return &jsonschema.Schema{Type: "string", Pattern: ledger.MoneyPattern}
			case reflect.TypeFor[time.Time]():
				return &jsonschema.Schema{Type: "string", Format: "date-time"}
			case reflect.TypeFor[[]byte]():
				return &jsonschema.Schema{Type: "string", ContentEncoding: "base64"}
			}
			return nil
		},
	}
	text, err := json.Marshal(reflector.ReflectFromType(t))
	if err := errors.Join(err, twice); err != nil {
		return nil, err
	}
	var s map[string]any
	if err := json.Unmarshal([]byte(strings.ReplaceAll(string(text), "#/$defs/", "#/components/schemas/")), &s); err != nil {
		return nil, err
	}
	defs, _ := s["$defs"].(map[string]any)
	for name, def := range defs {
		schemas[name] = def
	}
	markNullable(schemas, t, map[reflect.Type]bool{})
	return map[string]any{"$ref": "#/components/schemas/" + t.Name()}, nil
}

// markNullable lets the fields that are pointers or slices in Go be null.
func markNullable(schemas map[string]any, t reflect.Type, seen map[reflect.Type]bool) {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || seen[t] || t == reflect.TypeFor[api.Time]() || t == reflect.TypeFor[ledger.Money]() {
		return
	}
	seen[t] = true
	def, _ := schemas[t.Name()].(map[string]any)
	props, _ := def["properties"].(map[string]any)
	var visit func(t reflect.Type)
	visit = func(st reflect.Type) {
		for i := range st.NumField() {
			f := st.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Anonymous && name == "" {
				visit(f.Type)
				continue
			}
			markNullable(schemas, f.Type, seen)
			prop, ok := props[name].(map[string]any)
			if items, many := prop["items"].(map[string]any); many && f.Type.Kind() == reflect.Slice && f.Type.Elem().Kind() == reflect.Pointer {
				if kind, isText := items["type"].(string); isText {
					items["type"] = []any{kind, "null"}
				}
			}
			if !ok || f.Type.Kind() != reflect.Pointer || prop["anyOf"] != nil {
				continue
			}
			if kind, isText := prop["type"].(string); isText {
				prop["type"] = []any{kind, "null"}
			} else if r, isRef := prop["$ref"]; isRef {
				props[name] = map[string]any{"anyOf": []any{map[string]any{"$ref": r}, map[string]any{"type": "null"}}}
			}
		}
	}
	visit(t)
}

func (s *Server) openapi(c *gin.Context) {
	doc, err := OpenAPI()
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json; charset=utf-8", doc)
}
