package api

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"nimblepane/client"
	"nimblepane/core/compare"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	core "nimblepane/core/software"
	"nimblepane/engine/software"
	"nimblepane/store"
)

// softwareLimit is how long a software list may be that is brought, in bytes.
const softwareLimit = core.MostOfDocument

// SoftwareQuery says which of a version's software is meant.
type SoftwareQuery struct {
	VersionPath
	Search string      `query:"search" maxLength:"200" doc:"In names, versions, sources and summaries"`
	Origin core.Origin `query:"origin"`
	Paging
}

// ComparedPath names the versions that are compared.
type ComparedPath struct {
	VersionPath
	From string `query:"from" maxLength:"40" doc:"The version that it is compared with (default: the one that live names, or its fallback)"`
}

func (s *Server) software() {
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}/software", id: "list-software",
		summary: "What is in a version", role: role.Viewer, tag: "software",
	}, s.softwareOf)
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}/facts", id: "show-facts",
		summary: "What is known of the system in a version beside its software", role: role.Viewer, tag: "software",
	},
		func(ctx context.Context, in *VersionPath) (*body[core.Facts], error) {
			l, err := s.softwareList(ctx, *in)
			return ok(l.Facts.V, err)
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}/software/document", id: "software-document",
		media:   "application/vnd.cyclonedx+json",
		summary: "The software list of a version as CycloneDX 1.6", role: role.Viewer, tag: "software",
	},
		func(ctx context.Context, in *VersionPath) (*huma.StreamResponse, error) {
			l, err := s.softwareList(ctx, *in)
			if err != nil {
				return nil, err
			}
			document, err := core.Unpack(l.Document)
			return file(document, "application/vnd.cyclonedx+json; version=1.6", in.Image+"-"+in.Number+".cdx.json",
				err)
		})
	register(s, operation{
		method: "PUT", path: "/images/{image}/versions/{number}/software/document", on: onImage, id: "bring-software",
		summary: "Give a version that has no software list one that was made elsewhere, as CycloneDX",
		role:    role.Operator, tag: "software", limit: softwareLimit,
	},
		func(ctx context.Context, in *struct {
			VersionPath
			RawBody []byte `contentType:"application/vnd.cyclonedx+json"`
		},
		) (*body[client.Version], error) {
			if err := s.Software.Bring(ctx, actor(ctx), in.Image, in.Number, in.RawBody); err != nil {
				return nil, err
			}
			return ok(s.versionNamed(ctx, in.Image, in.Number))
		})
	register(s, operation{
		method: "GET", path: "/software", id: "who-has", tag: "software", role: role.Viewer,
		summary: "The versions that have a piece of software, with the pools and hosts that run them",
	}, s.whoHas)
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}/comparison", id: "compare-versions",
		summary: "How a version differs from another of its image", role: role.Viewer, tag: "software",
	},
		func(ctx context.Context, in *ComparedPath) (*body[compare.Comparison], error) {
			return ok(software.Compare(s.store.DB.WithContext(ctx), in.Image, in.From, in.Number))
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}/comparison/document", id: "comparison-document",
		media:   "text/markdown",
		summary: "How a version differs from another, as Markdown for a change ticket", role: role.Viewer,
		tag: "software",
	},
		func(ctx context.Context, in *ComparedPath) (*huma.StreamResponse, error) {
			c, err := software.Compare(s.store.DB.WithContext(ctx), in.Image, in.From, in.Number)
			if err != nil {
				return nil, err
			}
			return file([]byte(c.Markdown()), "text/markdown; charset=utf-8",
				fmt.Sprintf("%s-%s-from-%s.md", c.Image, c.To.Number, c.From.Number), nil)
		})
}

// file is an answer that is kept as a file.
func file(content []byte, kind, name string, err error) (*huma.StreamResponse, error) {
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		c.SetHeader("Content-Type", kind)
		c.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
		_, _ = c.BodyWriter().Write(content) // whoever asked may have gone away
	}}, nil
}

func (s *Server) softwareList(ctx context.Context, p VersionPath) (store.SoftwareList, error) {
	img, v, err := s.versionRow(ctx, p)
	if err != nil {
		return store.SoftwareList{}, err
	}
	return software.ListOf(s.store.DB.WithContext(ctx), img, v)
}

func (s *Server) softwareOf(ctx context.Context, in *SoftwareQuery) (*body[client.SoftwareList], error) {
	l, err := s.softwareList(ctx, in.VersionPath)
	if err != nil {
		return nil, err
	}
	after := 0
	if in.Cursor != "" {
		if after, err = strconv.Atoi(in.Cursor); err != nil || after < 0 {
			return nil, problem.InvalidRequest.Errorf("cursor %q is not valid: use next of the previous page",
				in.Cursor)
		}
	}
	all, err := core.UnpackEntries(l.Packed)
	if err != nil {
		return nil, err
	}
	found, counts := core.Search(all, in.Search), map[core.Origin]int{}
	for _, e := range found {
		counts[e.Origin]++
	}
	if in.Origin != "" {
		found = slices.DeleteFunc(found, func(e core.Entry) bool { return e.Origin != in.Origin })
	}
	found = found[min(after, len(found)):]
	out := client.SoftwareList{
		Image: in.Image, Number: in.Number, Entries: l.Entries, TakenAt: l.TakenAt, TakenBy: l.TakenBy,
		BroughtBy: l.BroughtBy, Counts: []client.SoftwareCount{},
	}
	p := page(found, in.Limit, func(core.Entry) string { return strconv.Itoa(after + in.Limit) })
	out.Items, out.Next = p.Items, p.Next
	for _, o := range core.Origins() {
		if counts[o] > 0 {
			out.Counts = append(out.Counts, client.SoftwareCount{Origin: o, N: counts[o]})
		}
	}
	return ok(out, nil)
}

// Asked is which piece of software is asked for.
type Asked struct {
	Name   string      `query:"name" required:"true" maxLength:"200" doc:"Of it or of its source, with * for any text"`
	Origin core.Origin `query:"origin"`
	Below  string      `query:"below" maxLength:"200" doc:"Versions of it before this one"`
	All    bool        `query:"all" doc:"Also versions that nothing names and no host runs"`
}

func (s *Server) whoHas(ctx context.Context, in *Asked) (*body[client.Page[client.SoftwareHolder]], error) {
	holders, err := software.Who(s.store.DB.WithContext(ctx), software.Question{
		Name: in.Name, Origin: in.Origin, Below: in.Below, All: in.All,
	})
	out := client.Page[client.SoftwareHolder]{Items: []client.SoftwareHolder{}}
	for _, h := range holders {
		o := client.SoftwareHolder{
			Image: h.Image, Number: h.Number, Has: h.Has, Unordered: h.Unordered, Tracks: append([]string{},
				h.Tracks...),
			Pinned: append([]string{}, h.Pinned...), Pools: []client.HolderPool{}, Barred: h.Barred,
		}
		for _, host := range h.Hosts {
			if n := len(o.Pools); n == 0 || o.Pools[n-1].Pool != host.Pool {
				o.Pools = append(o.Pools, client.HolderPool{Pool: host.Pool})
			}
			last := &o.Pools[len(o.Pools)-1]
			last.Hosts = append(last.Hosts, host.Name)
		}
		out.Items = append(out.Items, o)
	}
	return ok(out, err)
}
