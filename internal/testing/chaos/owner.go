package chaos

import (
	"context"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/web"
)

// Owner is somebody who rightly changes a site by its own pages.
type Owner struct {
	Name, Password string

	address string
	visitor *web.Visitor
}

// Visitor is somebody who finds the site at an address.
func (g *Ground) Visitor(address string) *web.Visitor {
	host, _, _ := strings.Cut(strings.TrimPrefix(address, "http://"), "/")
	return web.NewVisitor(web.Connections{host: g.Web})
}

// Owner has the owner of the site at an address sign in with a name and a
// password.
func (g *Ground) Owner(t *testing.T, address, name, password string) *Owner {
	t.Helper()
	host, _, _ := strings.Cut(strings.TrimPrefix(address, "http://"), "/")
	_, port, _ := strings.Cut(g.Web, ":")
	if !strings.Contains(host, ":") {
		address = strings.Replace(address, host, host+":"+port, 1)
		host += ":" + port
	}
	o := &Owner{Name: name, Password: password, address: address,
		visitor: web.NewVisitor(web.Connections{host: g.Web})}
	page, err := o.visitor.Get(context.Background(), address+"admin/")
	require.NoError(t, err)
	form, err := page.Form([]string{"name", "password"})
	require.NoError(t, err)
	form.Values.Set("name", name)
	form.Values.Set("password", password)
	page, err = o.visitor.Post(context.Background(), form.Action, form.Values)
	require.NoError(t, err)
	require.True(t, page.Shows("Sign out"), "%s", page.Body)
	return o
}

// Change gives the site another title, and the owner another name and password.
func (o *Owner) Change(t *testing.T, title, name, password string) {
	t.Helper()
	page, err := o.visitor.Post(context.Background(), o.address+"admin/settings.php",
		url.Values{"title": {title}, "name": {name}, "password": {password}})
	require.NoError(t, err)
	require.True(t, page.Shows("Saved."), "%s", page.Body)
	o.Name, o.Password = name, password
}
