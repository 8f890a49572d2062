package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

func wireTemplate(record store.Template) client.Template {
	t := record.Template
	w := client.Template{
		Name:       t.Name,
		About:      t.About,
		Kind:       string(t.Kind),
		Sender:     t.Sender,
		Cure:       string(t.Cure),
		Language:   t.Language,
		Texts:      t.Texts,
		Fields:     map[string]client.TemplateField{},
		Registered: []client.Registration{},
		ChangedAt:  record.ChangedAt,
	}
	for name, f := range t.Fields {
		w.Fields[name] = client.TemplateField{As: string(f.As), Only: string(f.Only), Most: f.Most}
	}
	for _, r := range t.Registered {
		w.Registered = append(w.Registered, client.Registration{Country: r.Country, Gateway: r.Gateway, ID: r.ID, Wording: r.Wording})
	}
	must, may := t.Needs()
	w.Must, w.May = append([]string{}, must...), append([]string{}, may...)
	source, _ := t.Write() // it came from such a file
	w.Source = string(source)
	return w
}

func (a *API) templates(c *gin.Context) {
	answerAll(c, a.engine.Roster.Book().Templates(), wireTemplate)
}

func (a *API) template(c *gin.Context) {
	t, ok := a.engine.Roster.Book().Template(c.Param("name"))
	if !ok {
		a.refuse(c, a.noTemplate(c))
		return
	}
	c.JSON(http.StatusOK, wireTemplate(t))
}

// noTemplate says that there is no template of the name in the address.
func (a *API) noTemplate(c *gin.Context) error {
	all := []string{}
	for _, one := range a.engine.Roster.Book().Templates() {
		all = append(all, one.Name)
	}
	return &nothing{"template", c.Param("name"), all}
}

func (a *API) putTemplate(c *gin.Context) {
	f, err := read[client.TemplateFile](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	named := c.Param("name")
	t, err := template.Read([]byte(f.Source))
	if err != nil {
		a.refuse(c, fault.New("source", err.Error(), "a template as the documentation describes it"))
		return
	}
	if named != "" && t.Name != named {
		a.refuse(c, fault.New("source", "name "+t.Name+" is not the one in the address", named))
		return
	}
	if err := a.engine.Roster.PutTemplate(c.Request.Context(), t, named != "", a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	stored, _ := a.engine.Roster.Book().Template(t.Name)
	if named != "" {
		c.JSON(http.StatusOK, wireTemplate(stored))
		return
	}
	c.Header("Location", "/v1/templates/"+t.Name)
	c.JSON(http.StatusCreated, wireTemplate(stored))
}

func (a *API) removeTemplate(c *gin.Context) {
	err := a.engine.Roster.RemoveTemplate(c.Request.Context(), c.Param("name"))
	if errors.Is(err, store.ErrNotFound) {
		err = a.noTemplate(c)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// weighTemplate says what a template weighs and costs over data.
func (a *API) weighTemplate(c *gin.Context) {
	r, err := read[client.TemplateData](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var t *template.Template
	switch stored, ok := a.engine.Roster.Book().Template(r.Template); {
	case (r.Template == "") == (r.Source == ""):
		err = fault.New(
			"template",
			"either a name or a source is needed",
			"template, the name of one that is stored, or source, a template file",
		)
	case r.Source != "":
		if t, err = template.Read([]byte(r.Source)); err != nil {
			err = fault.New("source", err.Error(), "a template as the documentation describes it")
		}
	case !ok:
		err = fault.New("template", fmt.Sprintf("%q is not a template here", r.Template), "the name of one that is stored")
	default:
		t = stored.Template
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	span, estimate, err := a.engine.Intake.Span(c.Request.Context(), t, strings.NewReader(r.Data), r.Language, r.Gateway)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := explain.Span(span)
	if estimate != nil {
		w.Cost = explain.Estimate(*estimate)
	}
	c.JSON(http.StatusOK, w)
}
