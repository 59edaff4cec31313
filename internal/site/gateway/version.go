package gateway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/site"
)

// MakeTemplate implements site.TemplateMaker: the image is sent first, and becomes a template by the
// order.
func (g *Gateway) MakeTemplate(ctx context.Context, o contract.TemplateOrder, image contract.Image) (contract.Task, error) {
	var t contract.Task
	err := g.call(ctx, http.MethodPut, "/images/"+o.Identity.String(), image, &t)
	if t, err = requireFields(t, err); err != nil {
		return t, cannotMake(err)
	}
	for !t.Settled() {
		select {
		case <-ctx.Done():
			return t, ctx.Err()
		case <-time.After(time.Second):
		}
		if t, err = g.Task(ctx, t.ID); err != nil {
			return t, err
		}
	}
	if t.State == contract.Failed {
		return t, nil
	}
	err = g.call(ctx, http.MethodPut, "/templates/"+url.PathEscape(o.Version.Name()), o, &t)
	t, err = requireFields(t, err)
	return t, cannotMake(err)
}

// cannotMake says what a gateway means that has no such call.
func cannotMake(err error) error {
	if errors.Is(err, site.ErrNotFound) {
		return fmt.Errorf("%w: this gateway cannot make templates: %w", site.ErrRefused, err)
	}
	return err
}

// DropTemplate implements site.TemplateMaker.
func (g *Gateway) DropTemplate(ctx context.Context, v contract.Version, id uuid.UUID) (contract.Task, error) {
	var t contract.Task
	err := g.call(ctx, http.MethodDelete, "/templates/"+url.PathEscape(v.Name())+"?id="+id.String(), nil, &t)
	if errors.Is(err, site.ErrNotFound) {
		return contract.Task{State: contract.Done}, nil
	}
	return requireFields(t, err)
}
