package api

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/recipients"
	"calmpigeon.example/internal/store"
)

func wireColumns(columns []batch.Column) []client.Column {
	all := make([]client.Column, len(columns))
	for i, k := range columns {
		all[i] = client.Column{Head: k.Head, Role: string(k.Role), Field: k.Field, Why: k.Why}
	}
	return all
}

func wireList(l store.RecipientList, groups []store.GroupCount) client.RecipientList {
	w := client.RecipientList{Name: l.Name, Rows: l.Rows, Columns: wireColumns(l.Columns), Groups: []client.RecipientGroup{}, By: l.ByWhom,
		CreatedAt: l.CreatedAt, ChangedAt: l.ChangedAt}
	for _, g := range groups {
		w.Groups = append(w.Groups, client.RecipientGroup(g))
	}
	return w
}

func (a *API) recipientLists(c *gin.Context) {
	all, err := a.engine.Store.RecipientLists(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.RecipientList]{Items: []client.RecipientList{}}
	for _, one := range all {
		l.Items = append(l.Items, wireList(one, nil))
	}
	c.JSON(http.StatusOK, l)
}

// refuseList refuses what was asked of a list; of one that is not there it says which there are.
func (a *API) refuseList(c *gin.Context, name string, err error) {
	if errors.Is(err, store.ErrNotFound) {
		missing := &nothing{what: "list of recipients", name: name, all: []string{}}
		if lists, wrong := a.engine.Store.RecipientLists(c.Request.Context()); wrong == nil {
			for _, l := range lists {
				missing.all = append(missing.all, l.Name)
			}
			err = missing
		}
	}
	a.refuse(c, err)
}

func (a *API) recipientList(c *gin.Context) {
	l, err := a.engine.Store.RecipientList(c.Request.Context(), c.Param("list"))
	var groups []store.GroupCount
	if err == nil {
		groups, err = a.engine.Store.Groups(c.Request.Context(), l.ID)
	}
	if err != nil {
		a.refuseList(c, c.Param("list"), err)
		return
	}
	c.JSON(http.StatusOK, wireList(l, groups))
}

func (a *API) removeRecipientList(c *gin.Context) {
	if err := a.engine.Store.RemoveList(c.Request.Context(), c.Param("list")); err != nil {
		a.refuseList(c, c.Param("list"), err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (a *API) saveRecipients(c *gin.Context) {
	hint, faults := listHint(c)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	w := recipients.Wants{Name: c.Param("list"), By: keyOf(c).Name, Country: c.Query("country"), Groups: c.QueryArray("group"),
		Number: c.Query("number"), Replace: c.Query("replace") == "true", DryRun: c.Query("dry_run") == "true"}
	var s recipients.Saved
	err := a.uploaded(c, func(list io.Reader) (err error) {
		s, err = a.engine.Lists.Save(c.Request.Context(), w, list, hint)
		return err
	})
	if err != nil {
		a.refuse(c, err)
		return
	}
	saved := client.RecipientsSaved{List: wireList(s.List, nil), Recognised: s.Said, Columns: wireColumns(s.Columns), Rows: s.Rows,
		Added: s.Added, Changed: s.Changed, Same: s.Same, LeftOut: s.Out, Left: []client.LeftRow{}}
	if saved.List.Name == "" { // nothing was kept
		saved.List.Name, saved.List.CreatedAt, saved.List.ChangedAt = w.Name, a.engine.Now(), a.engine.Now()
	}
	for _, l := range s.Left {
		saved.Left = append(saved.Left, client.LeftRow(l))
	}
	c.JSON(http.StatusOK, saved)
}

func (a *API) recipients(c *gin.Context) {
	after, limit, faults := numbered(c)
	of := store.Of{}
	if group := c.Query("group"); group != "" {
		of.Groups = []string{group}
	}
	if given := c.Query("number"); given != "" {
		n, err := phone.Parse(given)
		if err != nil {
			faults.Add("number", fault.Why(err), phone.Accepted+"; in an address the plus is written %2B")
		}
		of.Number = n.String()
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	l, err := a.engine.Store.RecipientList(c.Request.Context(), c.Param("list"))
	var found []store.Recipient
	if err == nil {
		found, err = a.engine.Store.Recipients(c.Request.Context(), l.ID, of, after, limit+1)
	}
	if err != nil {
		a.refuseList(c, c.Param("list"), err)
		return
	}
	page := client.List[client.ListedRecipient]{Items: []client.ListedRecipient{}}
	if len(found) > limit {
		found = found[:limit]
		page.Next = strconv.FormatInt(found[limit-1].N, 10)
	}
	for _, r := range found {
		page.Items = append(page.Items, client.ListedRecipient{To: r.Number, Fields: r.Fields, Groups: r.Groups})
	}
	c.JSON(http.StatusOK, page)
}

// removedMost is how many numbers are taken off a list at once.
const removedMost = 1000

func (a *API) removeRecipients(c *gin.Context) {
	var faults fault.Faults
	given := c.QueryArray("number")
	if len(given) == 0 || len(given) > removedMost {
		faults.Add("number", fmt.Sprintf("%d numbers", len(given)), fmt.Sprintf("1 to %d", removedMost))
	}
	var numbers []string
	for _, one := range given[:min(len(given), removedMost)] {
		n, err := phone.Parse(one)
		if err != nil {
			faults.Add("number", fault.Why(err), phone.Accepted+"; in an address the plus is written %2B")
		}
		numbers = append(numbers, n.String())
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	had, err := a.engine.Lists.Remove(c.Request.Context(), c.Param("list"), numbers, c.Query("group"))
	if err != nil {
		a.refuseList(c, c.Param("list"), err)
		return
	}
	c.JSON(http.StatusOK, client.RecipientsRemoved{Removed: had})
}

// inviteRecipients adds recipients of a list to a batch.
func (a *API) inviteRecipients(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	i, err := read[client.Invitation](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	at := -1
	if i.At != nil {
		if at = *i.At; at < 0 {
			a.refuse(c, fault.New("at", fmt.Sprintf("%d is no number of rows", at), "how many rows stand before the first of these"))
			return
		}
	}
	done, err := a.engine.Batches.Invite(c.Request.Context(), one.ID, i.List, store.Of{Groups: i.Groups, Without: i.Without}, at)
	if err != nil {
		a.refuseList(c, i.List, err)
		return
	}
	if one, err = a.engine.Store.Batch(c.Request.Context(), one.ID); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.BatchAppended{Rows: done.Rows, Already: done.Already, Batch: wireBatch(one)})
}
