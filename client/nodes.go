package client

import (
	"context"

	"undertide/api"
)

// Nodes lists the nodes by name; none where the service has its database alone.
func (c *Client) Nodes(ctx context.Context) ([]api.Node, error) {
	l, err := call[api.List[api.Node]](ctx, c, "GET", "/nodes", "", nil)
	return l.Items, err
}

// DrainNode lets a node's jobs go elsewhere, or with end lets it take jobs again.
func (c *Client) DrainNode(ctx context.Context, node string, end bool) (api.Node, error) {
	method := "POST"
	if end {
		method = "DELETE"
	}
	return call[api.Node](ctx, c, method, "/nodes/"+name(node)+"/drain", "", nil)
}

// RemoveNode forgets a node that is away.
func (c *Client) RemoveNode(ctx context.Context, node string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/nodes/"+name(node), "", nil)
	return err
}
