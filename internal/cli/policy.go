package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/internal/wire"
)

func (a *app) policyCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "policy", Short: "The limits by which evidence is judged"}
	cmd.AddCommand(a.policyShow(), a.policySet(), a.policyHistory())
	return cmd
}

func (a *app) policyShow() *cobra.Command {
	var version int64
	cmd := &cobra.Command{
		Use: "show", Short: "Show the policy in force, or an earlier one", Args: cobra.NoArgs,
		Example: "  endeixis policy show --output yaml > policy.yaml",
		Long:    "show prints the policy. With --output yaml or json it prints the document alone, in the\nform that “policy set” takes.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			policies, err := a.policies(cmd)
			if err != nil {
				return err
			}
			for _, p := range policies {
				if version != 0 && p.Version != version {
					continue
				}
				g := &grid{header: []string{"field", "value", "what it does"}}
				values, err := fieldsOf(p.Document)
				if err != nil {
					return err
				}
				for _, f := range judge.PolicyFields() {
					g.add(f.Name, values[f.Name], f.Does)
				}
				return a.print(p.Document, g, func() {
					fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(fmt.Sprintf("Policy, version %d", p.Version)), a.faint(fmt.Sprintf("by %s on %s", p.By, moment(p.Created))))
					a.draw(g)
				})
			}
			return &exit{exitFailed, fmt.Errorf("there is no version %d of the policy; “endeixis policy history” lists them", version)}
		},
	}
	cmd.Flags().Int64Var(&version, "version", 0, "this version instead of the one in force")
	return cmd
}

// fieldsOf returns the fields of a policy as text.
func fieldsOf(p judge.Policy) (map[string]string, error) {
	text, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	var raw map[string]json.RawMessage
	out := map[string]string{}
	err = json.Unmarshal(text, &raw)
	for name, value := range raw {
		out[name] = string(bytes.Trim(value, `"`))
	}
	return out, err
}

func (a *app) policies(cmd *cobra.Command) ([]wire.PolicyVersion, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	return c.Policies(cmd.Context())
}

func (a *app) policySet() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "set FILE", Short: "Put a new version of the policy in force", Args: cobra.ExactArgs(1),
		Long:    "set reads a whole policy, in YAML or JSON, and puts it in force for batches that are asked\nfor from now on. Every version is kept, and every record names the one that judged it.",
		Example: "  endeixis policy set policy.yaml --reason \"Oarlock does not sign; two channels have to agree\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if reason == "" {
				return usage("say with --reason why the policy changes; it goes on record")
			}
			text, err := a.readFile(args[0], 4<<20, "policy")
			if err != nil {
				return err
			}
			document, err := yaml.YAMLToJSON(text) // JSON is YAML too
			if err != nil {
				return &exit{exitFailed, fmt.Errorf("%s is not a policy: %s", args[0], yaml.FormatError(err, false, false))}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.SetPolicy(cmd.Context(), document, reason)
			if err != nil {
				return err
			}
			return a.print(p, policyGrid([]wire.PolicyVersion{p}), func() {
				fmt.Fprintf(a.stdout, "Policy version %d is in force from now on. Batches that have begun keep theirs.\n", p.Version)
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it goes on record")
	return cmd
}

func policyGrid(policies []wire.PolicyVersion) *grid {
	g := &grid{header: []string{"version", "in force from", "by", "reason"}}
	for _, p := range policies {
		g.add(strconv.FormatInt(p.Version, 10), moment(p.Created), p.By, p.Reason)
	}
	return g
}

func (a *app) policyHistory() *cobra.Command {
	return &cobra.Command{
		Use: "history", Short: "List the versions of the policy", Args: cobra.NoArgs, Example: "  endeixis policy history",
		RunE: func(cmd *cobra.Command, _ []string) error {
			policies, err := a.policies(cmd)
			if err != nil {
				return err
			}
			return a.print(policies, policyGrid(policies), nil)
		},
	}
}
