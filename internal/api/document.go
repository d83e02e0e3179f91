package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"sync"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"
	"github.com/labstack/echo/v4"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

var document struct {
	sync.Once
	text []byte
	err  error
}

// document serves the description of the API, made once from the routes.
func (a *API) document(c echo.Context) error {
	document.Do(func() { document.text, document.err = Document(a.version) })
	if document.err != nil {
		return document.err
	}
	return c.Blob(http.StatusOK, "application/json", document.text)
}

// Document makes the OpenAPI document.
func Document(version string) ([]byte, error) {
	schemas := openapi3.Schemas{}
	doc := &openapi3.T{OpenAPI: "3.0.3", Info: &openapi3.Info{Title: "Cross Twin", Version: version,
		Description: "Keeps a primary and its replicas identical. Names are snake_case, times RFC 3339 in UTC, " +
			"durations seconds, sizes bytes, positions the server's own text form."},
		Paths: openapi3.NewPaths(), Components: &openapi3.Components{Schemas: schemas,
			SecuritySchemes: openapi3.SecuritySchemes{
				"token": {Value: openapi3.NewSecurityScheme().WithType("http").WithScheme("bearer")}}}}
	problem, err := schemaOf(apitype.Problem{}, schemas)
	if err != nil {
		return nil, err
	}
	for _, r := range (&API{}).allRoutes() {
		op := openapi3.NewOperation()
		op.OperationID, op.Summary = r.id, r.summary
		path := describePath(r.path, op)
		for _, q := range r.query {
			op.AddParameter(openapi3.NewQueryParameter(q).WithSchema(openapi3.NewStringSchema()))
		}
		if r.in != nil {
			s, err := schemaOf(r.in, schemas)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", r.id, err)
			}
			op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithJSONSchemaRef(s)}
		}
		answer := openapi3.NewResponse().WithDescription(http.StatusText(r.status))
		switch {
		case r.content != "":
			answer.Content = openapi3.Content{r.content: {Schema: openapi3.NewSchemaRef("", openapi3.NewStringSchema())}}
		case r.out != nil:
			s, err := schemaOf(r.out, schemas)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", r.id, err)
			}
			answer = answer.WithJSONSchemaRef(s)
		}
		op.AddResponse(r.status, answer)
		op.Responses.Set("default",
			&openapi3.ResponseRef{
				Value: openapi3.NewResponse().WithDescription("A problem (RFC 9457)").WithContent(
					openapi3.Content{"application/problem+json": {Schema: problem}})})
		if !r.open {
			op.Security = openapi3.NewSecurityRequirements().With(openapi3.NewSecurityRequirement().Authenticate("token"))
		}
		doc.AddOperation(path, r.method, op)
	}
	return json.MarshalIndent(doc, "", " ")
}

// describePath turns :name into {name} and describes the parameters.
func describePath(path string, op *openapi3.Operation) string {
	parts := strings.Split(path, "/")
	for i, p := range parts {
		if name, ok := strings.CutPrefix(p, ":"); ok {
			parts[i] = "{" + name + "}"
			op.AddParameter(openapi3.NewPathParameter(name).WithSchema(openapi3.NewStringSchema()))
		}
	}
	return strings.Join(parts, "/")
}

func schemaOf(v any, schemas openapi3.Schemas) (*openapi3.SchemaRef, error) {
	return openapi3gen.NewSchemaRefForValue(v, schemas,
		openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true,
			ExportTopLevelSchema: true}),
		openapi3gen.CreateTypeNameGenerator(func(t reflect.Type) string {
			if written[t] != nil {
				return "" // described in place
			}
			pkg := t.PkgPath()
			return strings.ReplaceAll(strings.ToUpper(pkg[strings.LastIndex(pkg, "/")+1:][:1])+
				pkg[strings.LastIndex(pkg, "/")+2:]+t.Name(), "-", "")
		}),
		openapi3gen.SchemaCustomizer(customize))
}

// written are types that write themselves as JSON, and how.
var written = map[reflect.Type]func(*openapi3.Schema){
	reflect.TypeFor[verb.Fact](): func(s *openapi3.Schema) { *s = *openapi3.NewStringSchema() },
	reflect.TypeFor[observation.Maybe[int64]](): func(s *openapi3.Schema) {
		*s = *openapi3.NewInt64Schema().WithNullable()
	},
	reflect.TypeFor[verb.Sealed](): func(s *openapi3.Schema) {
		name := openapi3.NewStringSchema()
		name.Enum = enums[reflect.TypeFor[verb.Name]()]
		*s = *openapi3.NewObjectSchema().WithProperty("verb", name).WithProperty("args",
			openapi3.NewObjectSchema().WithAnyAdditionalProperties())
		s.Required = []string{"verb"}
	},
}

// customize says what reflection does not: texts that a type writes itself,
// raw JSON, and which fields are always there.
func customize(_ string, t reflect.Type, _ reflect.StructTag, s *openapi3.Schema) error {
	if t.PkgPath() == "encoding/json" && t.Name() == "RawMessage" {
		*s = openapi3.Schema{}
		return nil
	}
	if write := written[t]; write != nil {
		write(s)
		return nil
	}
	if values := enums[t]; values != nil {
		s.Enum = values
	}
	if t.Kind() == reflect.Struct && len(s.Properties) > 0 {
		s.Required = append(s.Required, always(t)...)
	}
	if _, ok := reflect.New(t).Interface().(interface{ UnmarshalText([]byte) error }); ok && t.Name() == "LSN" {
		*s = openapi3.Schema{Type: &openapi3.Types{"string"}}
	}
	return nil
}

// always lists the fields that a struct always has in JSON, those of embedded
// ones too.
func always(t reflect.Type) (names []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous && f.Tag.Get("json") == "" && f.Type.Kind() == reflect.Struct {
			names = append(names, always(f.Type)...)
			continue
		}
		name, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name != "" && name != "-" && !strings.Contains(opts, "omitempty") && !strings.Contains(opts, "omitzero") {
			names = append(names, name)
		}
	}
	return names
}
