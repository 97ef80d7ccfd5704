package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"nimblepane/client"
	core "nimblepane/core/provenance"
	"nimblepane/core/role"
	"nimblepane/engine/provenance"
	"nimblepane/store"
)

func (s *Server) provenance() {
	register(s, operation{
		method: http.MethodGet, path: "/images/{image}/versions/{number}/provenance", id: "show-provenance",
		summary: "How a version was made, as it was signed, and whether that can be trusted", role: role.Viewer,
		tag: "software",
	},
		func(ctx context.Context, in *VersionPath) (*body[client.Provenance], error) {
			img, v, err := s.versionRow(ctx, *in)
			if err != nil {
				return nil, err
			}
			c, err := provenance.Check(s.store.DB.WithContext(ctx), img, v)
			return ok(client.Provenance{
				Image: img.Name, Number: v.Number, Wrong: append([]string{}, c.Wrong...), KeyID: c.KeyID,
				Digest: "sha256:" + c.Version.SHA256, BySheet: c.Kind != core.ByHand, Manual: c.Kind != core.BySheet,
				Builder: c.Builder, Run: c.Run,
				Began: c.Began, Ended: c.Ended, From: append([]core.Thing{}, c.From...),
				Brought: append([]core.Thing{}, c.Brought...), Told: c.Told, Did: c.Did,
			}, err)
		})
	register(s, operation{
		method: http.MethodGet, path: "/images/{image}/versions/{number}/provenance/document",
		id: "provenance-document", media: "application/vnd.dsse+json",
		summary: "How a version was made: an in-toto statement in a signed DSSE envelope", role: role.Viewer,
		tag: "software",
	},
		func(ctx context.Context, in *VersionPath) (*huma.StreamResponse, error) {
			img, v, err := s.versionRow(ctx, *in)
			if err != nil {
				return nil, err
			}
			p, err := provenance.Of(s.store.DB.WithContext(ctx), img, v)
			return file(p.Envelope, "application/vnd.dsse+json", in.Image+"-"+in.Number+".intoto.json", err)
		})
	register(s, operation{
		method: http.MethodGet, path: "/signing-keys", id: "signing-keys", media: "application/x-pem-file",
		role: role.Viewer, tag: "software",
		summary: "The public keys that versions are signed with, or were, in PEM form, the newest first",
	},
		func(ctx context.Context, _ *empty) (*huma.StreamResponse, error) {
			keys, err := store.SigningKeys(s.store.DB.WithContext(ctx))
			var text []byte
			for _, k := range keys {
				text = append(text, core.PEM(k.Public)...)
			}
			return file(text, "application/x-pem-file", "nimblepane-keys.pem", err)
		})
}

// versionRow returns a version with its image.
func (s *Server) versionRow(ctx context.Context, p VersionPath) (img store.Image, v store.Version, err error) {
	db := s.store.DB.WithContext(ctx)
	if img, err = store.ImageNamed(db, p.Image); err != nil {
		return img, v, err
	}
	v, err = store.VersionNumbered(db, img, p.Number)
	return img, v, err
}
