package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) passcodeSuspicion() *cobra.Command {
	var w client.WouldBePasscode
	cmd := &cobra.Command{
		Use:   "suspicion NUMBER",
		Short: "How suspicious it would be to send a passcode, from 0 to 100, and why",
		Long: "Says how suspicious it would be to ask for a passcode for NUMBER, from the address of an end user, so that\n" +
			"you may ask for more before: what was asked for of late by the address, its network and for numbers beside\n" +
			"it, and what alarms stand. It counts for nothing.",
		Example: "  pigeon passcode suspicion +447700900123 --address 192.0.2.7",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			w.To = args[0]
			s, err := c.Suspicion(cmd.Context(), w)
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				a.writeSuspicion(cmd, s)
				return nil
			}
			rows := make([][]string, len(s.Reasons))
			for i, r := range s.Reasons {
				rows[i] = []string{strconv.Itoa(s.Suspicion), strconv.Itoa(r.Points), r.Say}
			}
			return a.print(cmd, s, []string{"suspicion", "points", "reason"}, rows)
		}),
	}
	cmd.Flags().StringVar(&w.Address, "address", "", "the end user's IP address")
	cmd.Flags().StringVar(&w.Country, "country", "", "in which NUMBER is dialled, if it has no country code")
	return cmd
}

func (a *app) writeSuspicion(cmd *cobra.Command, s client.Suspicion) {
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "%d of 100\n", s.Suspicion)
	if len(s.Reasons) == 0 {
		fmt.Fprintln(out, "  nothing speaks against it")
	}
	for _, r := range s.Reasons {
		fmt.Fprintf(out, "  %3d  %s\n", r.Points, r.Say)
	}
}

func (a *app) passcodeRules() *cobra.Command {
	var set []string
	var usual bool
	cmd := &cobra.Command{
		Use:   "rules",
		Short: "What is done when passcodes look like fraud; set it with --set",
		Long: "Lists the rules by which passcodes look like fraud, and what is done then:\n\n" +
			"  off    it is not judged, and its alarms are over\n" +
			"  alarm  it is told\n" +
			"  slow   what it is about gets few codes, for a day and longer if it comes again\n" +
			"  block  and none\n",
		Example: "  pigeon passcode rules\n  pigeon passcode rules --set sequence=block --set rise=slow\n  pigeon passcode rules --usual",
		Args:    cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.PasscodeRules(cmd.Context())
			if err != nil {
				return err
			}
			if usual || set != nil {
				kept, err := rulesSet(l.Items, set, usual)
				if err != nil {
					return err
				}
				if l, err = c.SetPasscodeRules(cmd.Context(), kept); err != nil {
					return err
				}
			}
			rows := make([][]string, len(l.Items))
			for i, r := range l.Items {
				rows[i] = []string{r.Rule, r.About, r.Act, map[bool]string{true: "set", false: "usual"}[r.Set]}
			}
			return a.print(cmd, l, []string{"rule", "what it finds", "then", "which is"}, rows)
		}),
	}
	cmd.Flags().StringArrayVar(&set, "set", nil, "what is done, such as sequence=block or sequence=usual; may be given several times")
	cmd.Flags().BoolVar(&usual, "usual", false, "take all back that was set")
	return cmd
}

// rulesSet are the rules that are set, with changes.
func rulesSet(now []client.PasscodeRule, changes []string, usual bool) (kept []client.PasscodeRule, err error) {
	acts := map[string]string{}
	for _, r := range now {
		if r.Set && !usual {
			acts[r.Rule] = r.Act
		}
	}
	for _, change := range changes {
		rule, act, ok := strings.Cut(change, "=")
		if !ok {
			return nil, usagef("--set %q: accepted is such as sequence=block or sequence=usual", change)
		}
		acts[rule] = act
	}
	for rule, act := range acts {
		if act != "usual" {
			kept = append(kept, client.PasscodeRule{Rule: rule, Act: act})
		}
	}
	return kept, nil
}

func (a *app) passcodeAlarm() *cobra.Command {
	return group("alarm", "What looks like fraud", a.alarmList(), a.alarmShow(), a.alarmLift(), a.alarmRestore(), a.alarmAct())
}

var alarmHead = []string{"raised", "rule", "what", "value", "then", "until", "stopped", "saved", "id"}

func (a *app) alarmRow(w client.PasscodeAlarm) []string {
	until := a.at(w.Until)
	if w.LiftedAt != nil {
		until = "lifted " + a.at(*w.LiftedAt)
	}
	return []string{a.at(w.RaisedAt), w.Rule, w.What, w.Value, w.Act, until, thousands(w.Stopped), moneys(w.Saved), w.ID}
}

func (a *app) alarmList() *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "list", Short: "List alarms that stand, the newest first", Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.PasscodeAlarms(cmd.Context(), all)
			if err != nil {
				return err
			}
			if len(l.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "No alarm stands. What raises one: pigeon passcode rules")
				return nil
			}
			rows := make([][]string, len(l.Items))
			for i, one := range l.Items {
				rows[i] = a.alarmRow(one)
			}
			return a.print(cmd, l, alarmHead, rows)
		})}
	cmd.Flags().BoolVar(&all, "all", false, "also what is over or was lifted")
	return cmd
}

// showAlarm writes an alarm with what it rests on.
func (a *app) showAlarm(cmd *cobra.Command, w client.PasscodeAlarm) error {
	if a.config.GetString("output") != "table" {
		return a.print(cmd, w, alarmHead, [][]string{a.alarmRow(w)})
	}
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "%s: %s %s\n\n  %s\n\n", w.About, w.What, w.Value, w.Say)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(out, "  %-8s %s\n", name, value)
		}
	}
	line("alarm", w.ID)
	line("raised", a.at(w.RaisedAt))
	switch {
	case w.LiftedAt != nil:
		line("lifted", strings.TrimSpace(a.at(*w.LiftedAt)+" by "+w.LiftedBy+" "+w.LiftedWhy))
	case w.Standing:
		line("stands", "until "+a.at(w.Until))
		line("then", alarmDoes(w.Act))
	default:
		line("over", "since "+a.at(w.Until))
	}
	stopped := counted(w.Stopped, "code")
	if len(w.Saved) > 0 {
		stopped += ", which would have cost " + moneys(w.Saved)
	}
	line("stopped", stopped)
	for i, s := range w.Sample {
		name := ""
		if i == 0 {
			name = "numbers"
		}
		fmt.Fprintf(out, "  %-8s %s  %s  %s\n", name, s.Number, a.at(s.At), counted(s.Codes, "code"))
	}
	if w.Standing {
		fmt.Fprintf(out, "\nIf it is false: pigeon passcode alarm lift %s --why WHY\n", w.ID)
	}
	return nil
}

// alarmDoes is what is done because of an alarm, in words.
func alarmDoes(act string) string {
	return map[string]string{"alarm": "it is told, and nothing more", "slow": "it gets few codes", "block": "it gets no codes"}[act]
}

// onAlarm is a command about one alarm.
func (a *app) onAlarm(use, short string, do func(*cobra.Command, *client.Client, []string) (client.PasscodeAlarm, error)) *cobra.Command {
	args := cobra.ExactArgs(len(strings.Fields(use)) - 1)
	return &cobra.Command{
		Use:   use,
		Short: short,
		Args:  args,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			w, err := do(cmd, c, args)
			if err != nil {
				return err
			}
			return a.showAlarm(cmd, w)
		}),
	}
}

func (a *app) alarmShow() *cobra.Command {
	return a.onAlarm("show ID", "Show an alarm and what it rests on",
		func(cmd *cobra.Command, c *client.Client, args []string) (client.PasscodeAlarm, error) {
			return c.PasscodeAlarm(cmd.Context(), args[0])
		})
}

func (a *app) alarmLift() *cobra.Command {
	var why string
	cmd := a.onAlarm("lift ID", "End an alarm as a false one; what was learnt from it stays",
		func(cmd *cobra.Command, c *client.Client, args []string) (client.PasscodeAlarm, error) {
			return c.LiftPasscodeAlarm(cmd.Context(), args[0], why)
		})
	cmd.Long = "Ends an alarm. What it was about raises no other of its rule before there are more than twice as many\n" +
		"numbers an hour. restore takes that back."
	cmd.Flags().StringVar(&why, "why", "", "why")
	return cmd
}

func (a *app) alarmRestore() *cobra.Command {
	return a.onAlarm("restore ID", "Take back that an alarm was lifted, with what was learnt from it",
		func(cmd *cobra.Command, c *client.Client, args []string) (client.PasscodeAlarm, error) {
			return c.RestorePasscodeAlarm(cmd.Context(), args[0])
		})
}

func (a *app) alarmAct() *cobra.Command {
	return a.onAlarm("act ID WHAT", "Change what is done because of an alarm: alarm, slow or block",
		func(cmd *cobra.Command, c *client.Client, args []string) (client.PasscodeAlarm, error) {
			return c.ActOnPasscodeAlarm(cmd.Context(), args[0], args[1])
		})
}
