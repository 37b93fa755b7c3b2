package client

import (
	"context"
	"errors"
	"net/http"
	"net/http/cookiejar"
	"strconv"

	"undertide/api"
)

// Me says who asks, and what they may do.
func (c *Client) Me(ctx context.Context) (api.Me, error) {
	return call[api.Me](ctx, c, "GET", "/me", "", nil)
}

// SignIn makes a token for a person who says their password: a session begins, makes the token, and ends.
func (c *Client) SignIn(ctx context.Context, who api.SignIn, ask api.NewPersonToken) (made api.MadePersonToken, err error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return made, err
	}
	short := &Client{base: c.base, http: &http.Client{Transport: c.http.Transport, CheckRedirect: c.http.CheckRedirect, Jar: jar}}
	if _, err = post[api.Me](ctx, short, "/sign-in", who); err != nil {
		return made, err
	}
	made, err = post[api.MadePersonToken](ctx, short, "/tokens", ask)
	if p := (*api.Problem)(nil); errors.As(err, &p) && p.Code == api.TokenExists.Code { // of an earlier sign-in from here, which this one takes the place of
		if err = short.RevokePersonToken(ctx, "", ask.Name); err == nil {
			made, err = post[api.MadePersonToken](ctx, short, "/tokens", ask)
		}
	}
	if err != nil {
		return made, err
	}
	_, err = call[struct{}](ctx, short, "POST", "/sign-out", "", nil)
	return made, err
}

// People lists all people by name.
func (c *Client) People(ctx context.Context) ([]api.Person, error) {
	l, err := call[api.List[api.Person]](ctx, c, "GET", "/people", "", nil)
	return l.Items, err
}

// AddPerson adds somebody, and gives the code that lets them in.
func (c *Client) AddPerson(ctx context.Context, p api.NewPerson) (api.MadePerson, error) {
	return post[api.MadePerson](ctx, c, "/people", p)
}

// ChangePerson changes somebody.
func (c *Client) ChangePerson(ctx context.Context, who string, p api.ChangedPerson) (api.Person, error) {
	return put[api.Person](ctx, c, "/people/"+name(who), p)
}

// RenewPerson gives somebody another code, to choose another password.
func (c *Client) RenewPerson(ctx context.Context, who string) (api.MadePerson, error) {
	return call[api.MadePerson](ctx, c, "POST", "/people/"+name(who)+"/code", "", nil)
}

// RemovePerson removes somebody.
func (c *Client) RemovePerson(ctx context.Context, who string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/people/"+name(who), "", nil)
	return err
}

// PersonTokens lists one's own tokens; of a keeper those of all people.
func (c *Client) PersonTokens(ctx context.Context) ([]api.PersonToken, error) {
	l, err := call[api.List[api.PersonToken]](ctx, c, "GET", "/tokens", "", nil)
	return l.Items, err
}

// MakePersonToken makes a token for a program.
func (c *Client) MakePersonToken(ctx context.Context, ask api.NewPersonToken) (api.MadePersonToken, error) {
	return post[api.MadePersonToken](ctx, c, "/tokens", ask)
}

// RevokePersonToken revokes one's own token, or that of a person whom a keeper names.
func (c *Client) RevokePersonToken(ctx context.Context, person, token string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/tokens/"+name(token)+query("person", person), "", nil)
	return err
}

// PutOwners says who may change a job, beside keepers.
func (c *Client) PutOwners(ctx context.Context, job string, owners []string) (api.Job, error) {
	return put[api.Job](ctx, c, "/jobs/"+name(job)+"/owners", api.Owners{Owners: owners})
}

// RotateSecrets seals all secrets anew, and says how many.
func (c *Client) RotateSecrets(ctx context.Context) (int, error) {
	r, err := call[api.Rotated](ctx, c, "POST", "/secrets/rotate", "", nil)
	return r.Secrets, err
}

// Trail lists what was done, newest first: of a person, on something, since a time or for a duration; empty for all.
func (c *Client) Trail(ctx context.Context, who, on, since string, limit int) ([]api.TrailLine, error) {
	p, err := call[api.Page[api.TrailLine]](ctx, c, "GET", "/trail"+query("who", who, "on", on, "since", since, "limit", strconv.Itoa(limit)), "", nil)
	return p.Items, err
}
