package api

import (
	"context"
	"fmt"

	"nimblepane/client"
	"nimblepane/core/act"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/engine"
)

// rolesOfActs are the least roles that may do what there are previews of.
var rolesOfActs = map[act.Name]role.Role{
	act.Stage: role.Operator, act.Retire: role.Operator, act.Pin: role.Operator, act.Roll: role.Operator,
	act.Activate: role.Approver, act.Rollback: role.Approver,
}

func (s *Server) previews() {
	register(s, operation{
		method: "POST", path: "/previews", id: "preview",
		summary: "Say what an act would do, or why it would be refused; nothing is done", role: role.Viewer,
		on: onNothing, tag: "service",
	},
		func(ctx context.Context, in *struct{ Body client.PreviewRequest }) (*body[client.Preview], error) {
			b := in.Body
			options, given, err := optionsIn(b.Options, defaultsOf(b.Act))
			if err != nil {
				return nil, err
			}
			mine := whoever(ctx).Role
			p, err := s.engine.Preview(ctx, actor(ctx), engine.PreviewRequest{
				Act: b.Act, Image: b.Image, Number: b.Number, Pools: b.Pools, Options: options, Given: given,
				LetGo: b.LetGo, Overrule: b.Overrule, Redirect: b.Redirect, KeepUsable: b.KeepUsable,
				TrackOnly: b.TrackOnly,
				Approved:  mine.Has(role.Approver),
			})
			if err != nil {
				return nil, err
			}
			out := client.Preview{Will: append([]string{}, p.Will...), Leaves: p.Leaves, Reasons: []string{}}
			needed := rolesOfActs[b.Act]
			if b.Overrule {
				needed = role.Administrator
			}
			switch {
			case !mine.Has(needed):
				out.Type = problem.Forbidden.URI()
				out.Refused = fmt.Sprintf("your role is %s; the operation needs %s", mine, needed)
			case p.Refused != nil:
				out.Type = p.Refused.Type.URI()
				out.Refused, out.Reasons = p.Refused.Detail, append(out.Reasons, p.Refused.Reasons...)
			}
			return ok(out, nil)
		})
}
