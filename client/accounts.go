package client

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"nimblepane/core/role"
)

// Account is somebody who may sign in.
type Account struct {
	Name      string    `json:"name"`
	Title     string    `json:"title" doc:"The person's name"`
	Role      role.Role `json:"role"`
	Disabled  bool      `json:"disabled"`
	CreatedAt time.Time `json:"created_at"`
}

// NewAccount is what an administrator gives to add an account.
type NewAccount struct {
	Name     string    `json:"name" minLength:"2" maxLength:"40" pattern:"^[a-z][a-z0-9.-]*$"`
	Title    string    `json:"title" maxLength:"100"`
	Role     role.Role `json:"role"`
	Password string    `json:"password" minLength:"10" maxLength:"200"`
}

// AccountEdit changes an account; what is left out stays.
type AccountEdit struct {
	Title    *string    `json:"title,omitempty" maxLength:"100"`
	Role     *role.Role `json:"role,omitempty"`
	Password *string    `json:"password,omitempty" minLength:"10" maxLength:"200"`
	Disabled *bool      `json:"disabled,omitempty"`
}

func (c *Client) Accounts(ctx context.Context) ([]Account, error) {
	return all[Account](ctx, c, "/accounts", nil)
}

func (c *Client) AddAccount(ctx context.Context, in NewAccount) (Account, error) {
	return post[Account](ctx, c, "/accounts", in)
}

func (c *Client) EditAccount(ctx context.Context, name string, in AccountEdit) (Account, error) {
	return answer[Account](ctx, c, request{method: http.MethodPatch, path: pathOf("accounts", name), body: in})
}

// SignIn is a name and its password.
type SignIn struct {
	Name     string `json:"name" minLength:"1" maxLength:"40"`
	Password string `json:"password" minLength:"1" maxLength:"200"`
	// Token asks for a bearer token instead of a console session.
	Token string `json:"token,omitempty" doc:"Name of a bearer token to be made; without it a session cookie is set" maxLength:"80"`
	// What that token is to be; see NewToken.
	Days   int       `json:"days,omitempty" minimum:"1" maximum:"366" doc:"Days until the token expires, 30 if left out"`
	Role   role.Role `json:"role,omitempty"`
	Pools  []string  `json:"pools,omitempty" maxItems:"100"`
	Images []string  `json:"images,omitempty" maxItems:"100"`
}

// SignedIn is who is signed in.
type SignedIn struct {
	Account Account `json:"account"`
	CSRF    string  `json:"csrf,omitempty" doc:"To be sent as X-CSRF-Token with what changes something, by consoles that sign in with a cookie"`
	Token   string  `json:"token,omitempty" doc:"The bearer token that was asked for; it is shown once"`
}

// SignIn returns who is signed in, with a bearer token of the name.
func (c *Client) SignIn(ctx context.Context, name, password, tokenName string) (SignedIn, error) {
	return post[SignedIn](ctx, c, "/session", SignIn{Name: name, Password: password, Token: tokenName})
}

// SignInFor signs in as is asked for.
func (c *Client) SignInFor(ctx context.Context, in SignIn) (SignedIn, error) {
	return post[SignedIn](ctx, &Client{url: c.url, http: c.http, clean: c.clean}, "/session", in)
}

// SignOut revokes the client's token.
func (c *Client) SignOut(ctx context.Context) error {
	_, err := answer[struct{}](ctx, c, request{method: http.MethodDelete, path: "/session"})
	return err
}

func (c *Client) WhoAmI(ctx context.Context) (SignedIn, error) {
	return get[SignedIn](ctx, c, "/session", nil)
}

// NewPassword changes one's own password.
type NewPassword struct {
	Old string `json:"old" minLength:"1" maxLength:"200"`
	New string `json:"new" minLength:"10" maxLength:"200"`
}

// ChangePassword sets one's own password.
func (c *Client) ChangePassword(ctx context.Context, in NewPassword) error {
	_, err := answer[struct{}](ctx, c, request{method: http.MethodPost, path: "/password", body: in})
	return err
}

// Token is a bearer token, without its secret.
type Token struct {
	ID        int64      `json:"id"`
	Account   string     `json:"account"`
	Name      string     `json:"name"`
	Role      role.Role  `json:"role,omitempty" doc:"The most that it may do; left out for all that its account may"`
	Pools     []string   `json:"pools" nullable:"false" doc:"With images: what it may change, and nothing else; both empty for everything"`
	Images    []string   `json:"images" nullable:"false"`
	MadeBy    int64      `json:"made_by" doc:"The token that made it, and that it ends with; 0 if none"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt time.Time  `json:"expires_at"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
}

// NewToken asks for a bearer token.
type NewToken struct {
	Name   string    `json:"name" minLength:"1" maxLength:"80"`
	Days   int       `json:"days,omitempty" minimum:"1" maximum:"366" doc:"Days until it expires; if left out, as long as the token that makes it, and 90 without one"`
	Role   role.Role `json:"role,omitempty" doc:"The most that it may do; yours if left out"`
	Pools  []string  `json:"pools,omitempty" maxItems:"100" doc:"Let it change only what concerns these pools, and the images below; everything can still be read"`
	Images []string  `json:"images,omitempty" maxItems:"100" doc:"Let it change only what concerns these images and their pools"`
}

// MadeToken is a new token with its secret, which is shown this once.
type MadeToken struct {
	Token
	Secret string `json:"secret"`
}

func (c *Client) Tokens(ctx context.Context) ([]Token, error) {
	return all[Token](ctx, c, "/tokens", nil)
}

func (c *Client) MakeToken(ctx context.Context, in NewToken) (MadeToken, error) {
	return post[MadeToken](ctx, c, "/tokens", in)
}

func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	_, err := answer[struct{}](ctx, c, request{
		method: http.MethodDelete,
		path:   pathOf("tokens", strconv.FormatInt(id, 10)),
	})
	return err
}
