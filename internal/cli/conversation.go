package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) conversation() *cobra.Command {
	return group("conversation", "What people wrote to your senders, and your answers", a.conversationList(), a.conversationShow(),
		a.conversationAnswer(), a.conversationDone())
}

func (a *app) conversationList() *cobra.Command {
	var f client.ConversationFilter
	var limit int
	cmd := &cobra.Command{
		Use:     "list [NUMBER or WORDS]",
		Short:   "List numbers that wrote, those that wrote last first",
		Example: "  pigeon conversation list --waiting\n  pigeon conversation list wheelchair",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := listLimit(limit); err != nil {
				return err
			}
			f.Q = strings.Join(args, " ")
			page, err := c.Conversations(cmd.Context(), f, "", limit)
			if err != nil {
				return err
			}
			if len(page.Items) == 0 && a.config.GetString("output") == "table" {
				said := "Nobody has written yet. People can answer to senders that are numbers: pigeon sender add +447700900000 --two-way"
				if f.Q != "" || f.Waiting {
					said = "There are no such conversations."
				}
				fmt.Fprintln(cmd.ErrOrStderr(), said)
				return nil
			}
			var rows [][]string
			for _, one := range page.Items {
				state := ""
				if one.Waiting {
					state = "○ wants an answer"
				}
				rows = append(rows, []string{one.Number, a.at(one.At), state, flat(one.Text), one.Sender, one.Gateway, fmt.Sprint(one.Count)})
			}
			err = a.print(cmd, page, []string{"number", "last", "state", "text", "to", "gateway", "texts"}, rows)
			if err == nil && page.Next != "" && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "There are more. Ask for up to 500: --limit 500, or look for a number or words.")
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&f.Waiting, "waiting", false, "only those that wrote last and want an answer")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many, at most 500")
	return cmd
}

func (a *app) conversationShow() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use: "show NUMBER", Short: "Show what was said with a number, the oldest first", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := listLimit(limit); err != nil {
				return err
			}
			page, err := c.Conversation(cmd.Context(), args[0], "", limit)
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				var rows [][]string
				for _, s := range page.Items {
					rows = append(rows, []string{s.ID, a.at(s.At), who(s), s.State, s.Sender, s.Gateway, s.Text, s.Message})
				}
				return a.print(cmd, page, []string{"id", "at", "who", "state", "sender", "gateway", "text", "answers"}, rows)
			}
			if page.Next != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "There is more before. Ask for up to 500: --limit 500\n")
			}
			slices.Reverse(page.Items)
			for _, s := range page.Items {
				a.writeSaid(cmd.OutOrStdout(), s)
			}
			return nil
		}),
	}
	cmd.Flags().IntVar(&limit, "limit", 50, "how many texts, at most 500")
	return cmd
}

func who(s client.Said) string {
	if s.Ours {
		return "we"
	}
	return "they"
}

func (a *app) writeSaid(out io.Writer, s client.Said) {
	head := fmt.Sprintf("They wrote to %s", s.Sender)
	if s.Ours {
		head = fmt.Sprintf("%s wrote: %s %s", s.Sender, shape(s.State), s.State)
	}
	fmt.Fprintf(out, "%s  %s\n", a.at(s.At), head)
	for line := range strings.SplitSeq(s.Text, "\n") {
		fmt.Fprintf(out, "    %s\n", line)
	}
	fmt.Fprintln(out)
}

func (a *app) conversationAnswer() *cobra.Command {
	var r client.Reply
	var key string
	cmd := &cobra.Command{
		Use:   "answer NUMBER --text TEXT",
		Short: "Answer what a number wrote last",
		Long: "From the sender to which they wrote, through the gateway that brought it if that can send it.\n" +
			"What holds for messages holds for answers: opt-outs and the rules of their country.",
		Example: "  pigeon conversation answer +447700900123 --text \"Yes, the bar is open\"",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			m, err := c.Answer(cmd.Context(), args[0], r, key)
			if err != nil {
				return err
			}
			return a.printMessages(cmd, m, []client.Message{m})
		}),
	}
	f := cmd.Flags()
	f.StringVar(&r.Text, "text", "", "the answer")
	f.StringVar(&r.Sender, "sender", "", "another sender than the one to which they wrote")
	f.StringVar(&r.Gateway, "gateway", "", "through this gateway")
	f.StringVar(&r.Kind, "kind", "", "transactional or bulk; transactional if not given")
	f.StringVar(&r.Reference, "reference", "", "your own name for it")
	f.StringVar(&key, "idempotency-key", "", "makes repeating it harmless")
	labelVar(f, &r.Labels)
	cmd.MarkFlagRequired("text")
	return cmd
}

func (a *app) conversationDone() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{
		Use: "done NUMBER", Short: "Say that what a number wrote wants no answer", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			done, err := c.SetConversationDone(cmd.Context(), args[0], undo)
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				return a.print(cmd, done, []string{"texts"}, [][]string{{fmt.Sprint(done.Texts)}})
			}
			said := "%s wants an answer again: %s.\n"
			if !undo {
				said = "%s wants no answer: %s. Take it back: --undo\n"
			}
			fmt.Fprintf(cmd.OutOrStdout(), said, args[0], counted(done.Texts, "text"))
			return nil
		}),
	}
	cmd.Flags().BoolVar(&undo, "undo", false, "take it back")
	return cmd
}
