package service

import (
	"context"
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/job"
	"undertide/lease"
	"undertide/store"
)

// getNodes lists the nodes; none where the service has its database alone.
func (s *Service) getNodes(c *gin.Context) error {
	return answer(c, http.StatusOK, api.List[api.Node]{Items: s.viewNodes()})
}

func (s *Service) viewNodes() []api.Node {
	out := []api.Node{}
	if s.nodes == nil {
		return out
	}
	s.nodes.mu.Lock()
	list := s.nodes.view.Nodes
	s.nodes.mu.Unlock()
	for _, x := range list {
		out = append(out, s.nodes.viewNode(x))
	}
	return out
}

// getNodeJobs lists the jobs that this node carries out.
func (s *Service) getNodeJobs(c *gin.Context) error {
	if s.nodes == nil || c.Param("node") != s.opt.Node {
		return s.noNode(c.Param("node"))
	}
	out := api.List[api.Job]{Items: []api.Job{}}
	for _, h := range s.nodes.keeper.Holding() {
		if e, err := s.find(s.nameOf(h.Lease().JobID)); err == nil {
			out.Items = append(out.Items, s.viewJob(e))
		}
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) noNode(name string) error {
	if s.nodes == nil {
		return api.NoSuchNode.With("this service has its database alone; there are no nodes", "docs/nodes.md says how to start some")
	}
	var known []string
	for _, x := range s.viewNodes() {
		known = append(known, x.Name)
	}
	fix := ""
	if n := job.Nearest(name, known); n != "" {
		fix = "did you mean " + n + "?"
	}
	return api.NoSuchNode.With("there is no node "+cut(name), fix)
}

// drainNode lets a node's jobs go elsewhere, each with a checkpoint; it takes nothing more.
func (s *Service) drainNode(c *gin.Context) error { return s.setDraining(c, true) }

// undrainNode lets a node take jobs again.
func (s *Service) undrainNode(c *gin.Context) error { return s.setDraining(c, false) }

func (s *Service) setDraining(c *gin.Context, draining bool) error {
	if s.nodes == nil {
		return s.noNode(c.Param("node"))
	}
	x, err := s.changeNode(c, func(ctx context.Context, name string) error { return s.db.DrainNode(ctx, name, draining) })
	if err != nil {
		return err
	}
	x.Draining = draining
	return answer(c, http.StatusOK, s.nodes.viewNode(x))
}

// deleteNode forgets a node that is away.
func (s *Service) deleteNode(c *gin.Context) error {
	if s.nodes == nil {
		return s.noNode(c.Param("node"))
	}
	if _, err := s.changeNode(c, s.db.RemoveNode); err != nil {
		return err
	}
	return nothing(c)
}

func (s *Service) changeNode(c *gin.Context, change func(ctx context.Context, name string) error) (lease.Node, error) {
	name := c.Param("node")
	err := change(c.Request.Context(), name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return lease.Node{}, s.noNode(name)
	case errors.Is(err, store.ErrLives):
		return lease.Node{}, api.NodeLives.With("node "+name+" is at work", "")
	case err != nil:
		return lease.Node{}, err
	}
	x, _ := s.nodes.node(name)
	x.Name = name
	return x, nil
}
