package api

import (
	"context"

	"nimblepane/client"
	"nimblepane/engine"
)

// rolesOfActs are the least roles that may do what there are previews of.
var rolesOfActs = map[string]string{
	"stage": client.Operator, "retire": client.Operator, "pin": client.Operator, "roll": client.Operator,
	"activate": client.Approver, "rollback": client.Approver,
}

func (s *Server) previews() {
	register(s, operation{method: "POST", path: "/previews", id: "preview", summary: "Say what an act would do, or why it would be refused; nothing is done", role: client.Viewer, on: onNothing, tag: "service"},
		func(ctx context.Context, in *struct{ Body client.PreviewRequest }) (*body[client.Preview], error) {
			b := in.Body
			options, err := optionsIn(b.Options)
			if err != nil {
				return nil, err
			}
			role := whoever(ctx).Role
			p, err := s.engine.Preview(ctx, actor(ctx), engine.PreviewRequest{
				Act: b.Act, Image: b.Image, Number: b.Number, Pools: b.Pools, Options: options,
				LetGo: b.LetGo, Overrule: b.Overrule, KeepUsable: b.KeepUsable, TrackOnly: b.TrackOnly, Approved: mayAct(role, client.Approver),
			})
			if err != nil {
				return nil, err
			}
			out := client.Preview{Will: append([]string{}, p.Will...), Leaves: p.Leaves, Reasons: []string{}}
			needed := rolesOfActs[b.Act]
			if b.Overrule {
				needed = client.Administrator
			}
			switch {
			case !mayAct(role, needed):
				out.Refused = "you have the role " + role + "; this needs " + needed
			case p.Refused != nil:
				out.Refused, out.Reasons = p.Refused.Text, append(out.Reasons, p.Refused.Reasons...)
			}
			return ok(out, nil)
		})
}
