package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) publisherCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "publisher", Short: "Keep the publishers"}
	cmd.AddCommand(a.publisherAdd(), a.publisherList(), a.publisherShow(), a.publisherSet())
	return cmd
}

func (a *app) publisherAdd() *cobra.Command {
	var name, contact string
	var scope []string
	cmd := &cobra.Command{
		Use: "add SLUG", Short: "Add a publisher", Args: cobra.ExactArgs(1),
		Example: "  endeixis publisher add brackwater --name 'Brackwater Radio' --scope 'buoy-rx-*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.AddPublisher(
				cmd.Context(), wire.NewPublisher{Slug: args[0], Name: name, Contact: contact, Scope: scope},
			)
			if err != nil {
				return err
			}
			return a.printPublishers(p, []wire.Publisher{p})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the publisher's name")
	cmd.Flags().StringVar(&contact, "contact", "", "how to reach it")
	cmd.Flags().StringArrayVar(&scope, "scope", nil, "pattern of file names that it may sign; repeat for more")
	_ = cmd.MarkFlagRequired("name")
	return cmd
}

func (a *app) publisherList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List publishers", Args: cobra.NoArgs, Example: "  endeixis publisher list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Publishers(cmd.Context())
			if err != nil {
				return err
			}
			return a.printPublishers(all, all)
		},
	}
}

func (a *app) publisherShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show SLUG",
		Short:   "Show a publisher and its keys",
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis publisher show tidewright",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.Publisher(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			keys, err := c.Keys(cmd.Context(), client.KeyFilter{Publisher: p.Slug})
			if err != nil {
				return err
			}
			own := []wire.Key{}
			g := &grid{
				header: []string{"state", "fingerprint", "facts", "user ID"},
				empty:  "No key of this publisher is in the keyring.",
			}
			for _, k := range keys {
				own = append(own, k)
				g.add(string(k.State), k.Grouped, facts(k), first(k.UserIDs))
			}
			return a.print(struct {
				wire.Publisher
				Keys []wire.Key `json:"keys"`
			}{p, own}, g, func() {
				fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(p.Slug), plain.Text(p.Name))
				if p.Contact != "" {
					a.wrapped("", p.Contact)
				}
				fmt.Fprintf(a.stdout, "may sign %s; added by %s on %s\n\n", scopeText(p.Scope), p.By, moment(p.Created))
				a.draw(g)
			})
		},
	}
}

func (a *app) publisherSet() *cobra.Command {
	var name, contact string
	var scope []string
	cmd := &cobra.Command{
		Use:     "set SLUG",
		Short:   "Change a publisher's name, contact or scope",
		Args:    cobra.ExactArgs(1),
		Long:    "set changes what is given and leaves the rest. --scope takes the place of all patterns there\nare. A new scope counts for batches that are asked for from then on.",
		Example: "  endeixis publisher set brackwater --scope 'buoy-rx-*' --scope 'mast-*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			var change wire.PublisherChange
			if cmd.Flags().Changed("name") {
				change.Name = &name
			}
			if cmd.Flags().Changed("contact") {
				change.Contact = &contact
			}
			change.Scope = scope
			if change.Name == nil && change.Contact == nil && scope == nil {
				return usage("say what to change: --name, --contact or --scope")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.SetPublisher(cmd.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.printPublishers(p, []wire.Publisher{p})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the publisher's name")
	cmd.Flags().StringVar(&contact, "contact", "", "how to reach it")
	cmd.Flags().StringArrayVar(&scope, "scope", nil, "pattern of file names that it may sign; repeat for more")
	return cmd
}

func scopeText(scope []string) string {
	if len(scope) == 0 {
		return "any name"
	}
	return plain.Text(strings.Join(scope, ", "))
}

func (a *app) printPublishers(value any, list []wire.Publisher) error {
	g := &grid{
		header: []string{"publisher", "name", "may sign"},
		empty:  "No publisher yet. Add one with “endeixis publisher add SLUG --name NAME”.",
	}
	for _, p := range list {
		g.add(p.Slug, p.Name, scopeText(p.Scope))
	}
	return a.print(value, g, nil)
}
