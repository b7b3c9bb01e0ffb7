package projects

import (
	"context"
	"time"

	"kembrel/api"
	"kembrel/service/act"
)

// ListViews lists one's own views of a project and the project's.
func (s *Projects) ListViews(ctx context.Context, who act.Who, in *api.ProjectInput) (*api.Page[api.View], error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListViews(ctx, p.ID, who.ID)
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.View]{Items: []api.View{}}
	for _, v := range rows {
		out.Items = append(out.Items, api.View{ID: v.ID, Name: v.Name, Look: v.Look, Everybody: v.Everybody,
			Changed: v.Changed})
	}
	return out, nil
}

// KeepView keeps a view under a name.
func (s *Projects) KeepView(ctx context.Context, who act.Who, in *api.ViewInput) (*api.View, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	person := &who.ID
	if in.Body.Everybody {
		if err := s.Need(ctx, api.Member, in.Project); err != nil {
			return nil, err
		}
		person = nil
	}
	out := &api.View{Name: act.Clean(in.Body.Name), Look: act.Clean(in.Body.Look), Everybody: in.Body.Everybody,
		Changed: time.Now()}
	out.ID, err = s.db.SetView(ctx, p.ID, person, out.Name, out.Look)
	return out, err
}

// DropView drops one of one's own views, or, as a member, one of the project's.
func (s *Projects) DropView(ctx context.Context, who act.Who, in *api.ViewIDInput) (*api.None, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	role, err := s.RoleOn(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	dropped, err := s.db.DropView(ctx, p.ID, who.ID, in.ID, role >= api.Member)
	if err == nil && !dropped {
		err = api.Fail(api.NotFound, "there is no view %d of yours, nor of the project's", in.ID)
	}
	return nil, err
}
