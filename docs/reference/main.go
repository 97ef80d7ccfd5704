// Command reference writes what the docs have from the code: the reference
// pages of the client and the API, the schema of build sheets, and the drawing of
// the packages.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"nimblepane/api"
	"nimblepane/cli"
	"nimblepane/core/problem"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "reference:", err)
		os.Exit(1)
	}
}

func run() error {
	client, err := clientPage()
	if err != nil {
		return err
	}
	api, err := apiPage()
	if err != nil {
		return err
	}
	schema, err := sheetSchema()
	if err != nil {
		return err
	}
	for name, text := range map[string][]byte{"docs/client.md": client, "docs/api.md": api, schemaFile: schema} {
		if err := os.WriteFile(name, text, 0o644); err != nil {
			return err
		}
	}
	return redrawFile("DEVELOPMENT.md")
}

func clientPage() ([]byte, error) {
	var out bytes.Buffer
	out.WriteString("# The client\n\nMade from the code by `make generate`. How to begin is in the " +
		"[guide](guide.md).\n\n")
	root := cli.New("")
	root.DisableAutoGenTag = true
	root.InitDefaultCompletionCmd()
	var walk func(*cobra.Command) error
	walk = func(c *cobra.Command) error {
		c.DisableAutoGenTag = true
		var page bytes.Buffer
		if err := doc.GenMarkdownCustom(c, &page, func(link string) string {
			return "#" + strings.ReplaceAll(strings.TrimSuffix(link, ".md"), "_", "-")
		}); err != nil {
			return err
		}
		text, _, _ := strings.Cut(page.String(), "### SEE ALSO")
		out.WriteString(strings.ReplaceAll(text, "### Options inherited from parent commands", "### Common options"))
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() && sub.Name() != "completion" {
				if err := walk(sub); err != nil {
					return err
				}
			}
		}
		return nil
	}
	err := walk(root)
	return out.Bytes(), err
}

func apiPage() ([]byte, error) {
	text, err := api.Describe("")
	if err != nil {
		return nil, err
	}
	var spec struct {
		Tags  []struct{ Name, Description string }
		Paths map[string]map[string]struct {
			Summary, Description string
			Tags                 []string
			Parameters           []struct {
				Name, In, Description string
				Required              bool
			}
			RequestBody struct {
				Content map[string]struct {
					Schema struct {
						Ref string `json:"$ref"`
					}
				}
			}
		}
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct {
					Type        any
					Description string
					Enum        []string
					Ref         string `json:"$ref"`
				}
				Required []string
			}
		}
	}
	if err := json.Unmarshal(text, &spec); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.WriteString(`# The API

Made from the code by ` + "`make generate`" + `. The service describes itself at ` + "`/api/openapi.json`" + ` (OpenAPI 3.1); a copy is [openapi.json](openapi.json).

- Send ` + "`Authorization: Bearer TOKEN`" + `. Tokens are made by ` + "`pane token make`" + ` or ` + "`POST /api/v1/session`" + ` with a token name.
- Errors are problem details (RFC 9457): ` + "`detail`" + ` explains the error and its remedy, ` + "`errors`" + ` lists several reasons, and ` + "`type`" + ` is for programs: one of the [problem types](#problem-types), which never change their meaning.
- Lists come in pages: send ` + "`cursor`" + ` with the ` + "`next`" + ` of the page before, or follow the ` + "`Link`" + ` header (RFC 8288).
- A POST that creates something answers 201, or 202 while it is made, with its ` + "`Location`" + `.
- What people edit has an ` + "`ETag`" + `; send it back as ` + "`If-Match`" + `: one tag, a list, or ` + "`*`" + `. An edit of something that changed meanwhile gets 412; a weak tag never matches. A GET with ` + "`If-None-Match`" + ` gets 304 if nothing changed.
- Send an ` + "`Idempotency-Key`" + ` with a POST: repeated within a day, it does the thing once and gets the same answer. The requests are compared by their meaning: the order of keys and space do not count.
- Answers to GET are compressed with ` + "`br`" + ` or ` + "`gzip`" + `, as ` + "`Accept-Encoding`" + ` allows.
- ` + "`GET /api/v1/events`" + ` is a stream of server-sent events (` + "`event: change`" + `, with ` + "`seq`, `kind` and `subject`" + `). It is taken up again from ` + "`Last-Event-ID`" + `.

`)
	paths := make([]string, 0, len(spec.Paths))
	for p := range spec.Paths {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	known := func(tag string) bool {
		return slices.ContainsFunc(spec.Tags, func(t struct{ Name, Description string }) bool { return t.Name == tag })
	}
	for _, path := range paths {
		for method, o := range spec.Paths[path] {
			if !slices.ContainsFunc(o.Tags, known) {
				return nil, fmt.Errorf("%s %s is in none of the sections: its tags are %q", method, path, o.Tags)
			}
		}
	}
	for _, tag := range spec.Tags {
		fmt.Fprintf(&out, "## %s%s\n\n%s.\n\n", strings.ToUpper(tag.Name[:1]), tag.Name[1:], tag.Description)
		for _, path := range paths {
			for _, method := range []string{"get", "post", "put", "patch", "delete"} {
				o, ok := spec.Paths[path][method]
				if !ok || !slices.Contains(o.Tags, tag.Name) {
					continue
				}
				fmt.Fprintf(&out, "### `%s %s`\n\n%s. %s\n\n", strings.ToUpper(method), path, o.Summary, o.Description)
				for _, p := range o.Parameters {
					if p.In != "path" && p.Name != "Idempotency-Key" { // which every POST has
						fmt.Fprintf(&out, "- `%s` (%s) %s\n", p.Name, p.In, p.Description)
					}
				}
				schema := spec.Components.Schemas[strings.TrimPrefix(
					o.RequestBody.Content["application/json"].Schema.Ref, "#/components/schemas/")]
				names := make([]string, 0, len(schema.Properties))
				for n := range schema.Properties {
					names = append(names, n)
				}
				slices.Sort(names)
				for _, n := range names {
					p := schema.Properties[n]
					note := p.Description
					if len(p.Enum) > 0 {
						note += " (" + strings.Join(p.Enum, ", ") + ")"
					}
					if slices.Contains(schema.Required, n) {
						note += " (needed)"
					}
					fmt.Fprintf(&out, "- `%s` (body) %s\n", n, strings.TrimSpace(note))
				}
				out.WriteString("\n")
			}
		}
	}
	out.WriteString("## Problem types\n\nThe service describes each type under its URI.\n\n" +
		"| type | status | meaning | remedy |\n|---|---|---|---|\n")
	for _, e := range problem.All {
		fmt.Fprintf(&out, "| `%s` | %d | %s | %s |\n", e.Type.URI(), e.Status, e.Meaning, e.Remedy)
	}
	return out.Bytes(), nil
}
