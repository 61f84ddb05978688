package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/core/openpgp"
	"endeixis/internal/wire"
)

func (a *app) policyCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "policy", Short: "The limits by which evidence is judged"}
	cmd.AddCommand(a.policyShow(), a.policySet(), a.policyHistory())
	return cmd
}

func (a *app) policyShow() *cobra.Command {
	var version int64
	var publisher string
	cmd := &cobra.Command{
		Use:     "show",
		Short:   "Show the policy in force, or an earlier one",
		Args:    cobra.NoArgs,
		Example: "  endeixis policy show --output yaml > policy.yaml",
		Long:    "show prints the policy, and with --publisher what it is for one publisher: fields of its own\nare marked. With --output yaml or json it prints the document alone, in the form that\n“policy set” takes; for a publisher, only the fields of its own.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			policies, err := a.policies(cmd)
			if err != nil {
				return err
			}
			p, err := inForce(policies, version, publisher)
			if err != nil {
				return err
			}
			values, err := fieldsOf(p.Document)
			if err != nil {
				return err
			}
			g := &grid{header: []string{"field", "value", "what it does"}}
			var document any = p.Document
			title := fmt.Sprintf("Policy, version %d", p.Version)
			if publisher != "" {
				own := map[string]json.RawMessage{}
				for _, name := range p.Own {
					own[name] = values[name]
				}
				document = own
				title = fmt.Sprintf("Policy for %s, as of version %d", publisher, p.Version)
			}
			for _, f := range judge.PolicyFields() {
				does := f.Does
				if slices.Contains(p.Own, f.Name) {
					does += " — of its own"
				}
				g.add(f.Name, shownValue(values[f.Name]), does)
			}
			return a.print(document, g, func() {
				fmt.Fprintf(
					a.stdout, "%s  %s\n", a.bold(title), a.faint(fmt.Sprintf("by %s on %s", p.By, moment(p.Created))),
				)
				if publisher != "" && len(p.Own) == 0 {
					fmt.Fprintln(a.stdout, "This publisher has nothing of its own.")
				}
				a.draw(g)
			})
		},
	}
	cmd.Flags().StringVar(&publisher, "publisher", "", "what it is for this publisher")
	cmd.Flags().Int64Var(&version, "version", 0, "this version instead of the one in force")
	return cmd
}

// inForce finds what was in force at a version, or is now for 0, among changes
// listed from the newest on. A publisher without fields of its own has the
// policy itself.
func inForce(policies []wire.PolicyVersion, version int64, publisher string) (wire.PolicyVersion, error) {
	if version != 0 && !slices.ContainsFunc(policies, func(p wire.PolicyVersion) bool { return p.Version == version }) {
		return wire.PolicyVersion{}, &exit{
			exitFailed,
			fmt.Errorf("there is no version %d of the policy; “endeixis policy history” lists them", version),
		}
	}
	policies = slices.DeleteFunc(
		slices.Clone(policies), func(p wire.PolicyVersion) bool { return version != 0 && p.Version > version },
	)
	newest := func(publisher string) int {
		return slices.IndexFunc(policies, func(p wire.PolicyVersion) bool { return p.Publisher == publisher })
	}
	base := policies[newest("")]
	i := newest(publisher)
	if publisher == "" || i < 0 {
		return base, nil
	}
	own := policies[i]
	if base.Version < own.Version {
		return own, nil
	}
	// The policy has changed since; the publisher's fields lie on top of it.
	values, err := fieldsOf(own.Document)
	if err != nil {
		return own, err
	}
	fields := map[string]json.RawMessage{}
	for _, name := range own.Own {
		fields[name] = values[name]
	}
	text, err := json.Marshal(fields)
	if err != nil {
		return own, err
	}
	own.Version, own.By, own.Created = base.Version, base.By, base.Created
	own.Document, err = base.Document.With(text)
	return own, err
}

// fieldsOf returns the fields of a policy in JSON.
func fieldsOf(p judge.Policy) (map[string]json.RawMessage, error) {
	text, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	return judge.FieldsOf(text)
}

// shownValue turns a field's value into text for people.
func shownValue(value json.RawMessage) string {
	if value == nil {
		return "none"
	}
	var names []string
	if json.Unmarshal(value, &names) == nil {
		if len(names) == 0 {
			return "none"
		}
		if len(names) == len(openpgp.Curves()) {
			return "all"
		}
		return strings.Join(names, " ")
	}
	return string(bytes.Trim(value, `"`))
}

func (a *app) policies(cmd *cobra.Command) ([]wire.PolicyVersion, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	return c.Policies(cmd.Context())
}

func (a *app) policySet() *cobra.Command {
	var reason, publisher string
	cmd := &cobra.Command{
		Use:     "set FILE",
		Short:   "Put a new version of the policy in force",
		Args:    cobra.ExactArgs(1),
		Long:    "set reads a whole policy, in YAML or JSON, and puts it in force for batches that are asked\nfor from now on. Every version is kept, and every record names the one that judged it.\n\nWith --publisher it reads only the fields that this publisher has otherwise, in place of\nthose it had; an empty object, {}, ends them.",
		Example: "  endeixis policy set policy.yaml --reason \"Oarlock does not sign; two channels have to agree\"\n  endeixis policy set corran.yaml --publisher corran --reason \"their discs are signed with RSA 4096\"",
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
				return &exit{
					exitFailed, fmt.Errorf("%s is not a policy: %s", args[0], yaml.FormatError(err, false, false)),
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var p wire.PolicyVersion
			if publisher != "" {
				p, err = c.SetOwnPolicy(cmd.Context(), publisher, document, reason)
			} else {
				p, err = c.SetPolicy(cmd.Context(), document, reason)
			}
			if err != nil {
				return err
			}
			err = a.print(p, policyGrid([]wire.PolicyVersion{p}), func() {
				if publisher != "" {
					fmt.Fprintf(
						a.stdout,
						"Policy version %d is in force from now on; %s has of its own: %s.\n",
						p.Version,
						publisher,
						ownFields(p),
					)
					return
				}
				fmt.Fprintf(
					a.stdout, "Policy version %d is in force from now on.\n",
					p.Version,
				)
			})
			if err != nil {
				return err
			}
			return a.tellRejudged(cmd.Context(), c, p.Reassessment)
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it goes on record")
	cmd.Flags().StringVar(&publisher, "publisher", "", "the publisher whose own fields these are")
	return cmd
}

func policyGrid(policies []wire.PolicyVersion) *grid {
	g := &grid{header: []string{"version", "in force from", "by", "for", "fields of its own", "reason"}}
	for _, p := range policies {
		who, own := p.Publisher, ownFields(p)
		if who == "" {
			who, own = "everybody", ""
		}
		g.add(strconv.FormatInt(p.Version, 10), moment(p.Created), p.By, who, own, p.Reason)
	}
	return g
}

func ownFields(p wire.PolicyVersion) string {
	if len(p.Own) == 0 {
		return "nothing"
	}
	return strings.Join(p.Own, " ")
}

func (a *app) policyHistory() *cobra.Command {
	return &cobra.Command{
		Use:     "history",
		Short:   "List the changes of the policy",
		Args:    cobra.NoArgs,
		Example: "  endeixis policy history",
		RunE: func(cmd *cobra.Command, _ []string) error {
			policies, err := a.policies(cmd)
			if err != nil {
				return err
			}
			return a.print(policies, policyGrid(policies), nil)
		},
	}
}
