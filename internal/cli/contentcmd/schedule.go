package contentcmd

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/store/entries"
)

func (a *Commands) entrySchedule() *cobra.Command {
	var publish, unpublish, zone string
	var locales []string
	c := &cobra.Command{
		Use: "schedule ID|TYPE/SLUG …", Short: "Schedule publishing or unpublishing of entries, all or none",
		Args:    cobra.MinimumNArgs(1),
		Example: `  ubiquon entry schedule notice/winter-timetable --publish-at "2026-12-01T08:00" --zone Europe/Oslo`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if publish == "" && unpublish == "" {
				return command.Misusef("say when, with --publish-at or --unpublish-at")
			}
			ids := make([]string, len(args))
			for i, name := range args {
				if ids[i], err = a.Find(cmd.Context(), s, name); err != nil {
					return err
				}
			}
			var made []api.Schedule
			for _, one := range [][2]string{
				{entries.SchedulePublish, publish},
				{entries.ScheduleUnpublish, unpublish},
			} {
				if one[1] == "" {
					continue
				}
				all, err := s.Entries().ScheduleAll(cmd.Context(), api.NewSchedules{
					Entries: ids, Action: one[0], At: one[1], Zone: zone, Locales: locales,
				})
				if err != nil {
					return err
				}
				made = append(made, all...)
			}
			return a.Print(map[string]any{"items": made}, func(t *command.Table) { drawSchedules(t, made) })
		},
	}
	c.Flags().StringVar(&publish, "publish-at", "", "when to publish, as in 2026-12-01T08:00 or with an offset")
	c.Flags().StringVar(&unpublish, "unpublish-at", "", "when to take back")
	c.Flags().StringVar(&zone, "zone", "UTC", "the time zone of the moment, as in Europe/Oslo")
	c.Flags().StringSliceVar(&locales, "locale", nil, "only these locales")
	return c
}

func drawSchedules(t *command.Table, all []api.Schedule) {
	t.Row("ID", "STATE", "AT", "DO", "LOCALES", "ENTRY")
	for _, s := range all {
		locales := "all"
		if s.Locales != nil {
			locales = strings.Join(s.Locales, " ")
		}
		t.Row(s.ID[:8], s.State, s.At.Local().Format("2006-01-02 15:04:05"), s.Action, locales, t.Short(s.Title, 30))
		if s.Detail != "" {
			t.Row("", "", t.Short(s.Detail, 60))
		}
	}
}

// Schedule returns the command schedule.
func (a *Commands) Schedule() *cobra.Command {
	var state string
	list := &cobra.Command{
		Use: "list", Short: "List schedules, pending and past", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Entries().Schedules(cmd.Context(), state)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) { drawSchedules(t, all) })
		},
	}
	list.Flags().StringVar(&state, "state", "", "only pending, done, failed or cancelled ones")
	cancel := &cobra.Command{
		Use: "cancel ID", Short: "Cancel a pending schedule", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.pending(cmd, args[0])
			if err != nil {
				return err
			}
			if err := s.Entries().CancelSchedule(cmd.Context(), id); err != nil {
				return err
			}
			return a.Print(map[string]string{"cancelled": id}, func(t *command.Table) { t.Line(id + " cancelled") })
		},
	}
	var at, zone string
	move := &cobra.Command{
		Use: "move ID", Short: "Move a pending schedule to another time", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.pending(cmd, args[0])
			if err != nil {
				return err
			}
			sch, err := s.Entries().MoveSchedule(cmd.Context(), id, at, zone)
			if err != nil {
				return err
			}
			return a.Print(sch, func(t *command.Table) { drawSchedules(t, []api.Schedule{sch}) })
		},
	}
	move.Flags().StringVar(&at, "at", "", "the new moment")
	move.Flags().StringVar(&zone, "zone", "UTC", "its time zone")
	_ = move.MarkFlagRequired("at") // the flag is there
	return command.Noun("schedule", "List and change schedules", list, move, cancel)
}

// pending finds a pending schedule by the beginning of its id.
func (a *Commands) pending(cmd *cobra.Command, name string) (*client.Client, string, error) {
	s, err := a.Service()
	if err != nil {
		return nil, "", err
	}
	all, err := s.Entries().Schedules(cmd.Context(), entries.SchedulePending)
	if err != nil {
		return nil, "", err
	}
	var found []string
	for _, sch := range all {
		if strings.HasPrefix(sch.ID, name) {
			found = append(found, sch.ID)
		}
	}
	if len(found) != 1 {
		return nil, "", fmt.Errorf(
			"%d pending schedules have an id that begins with %q; see: ubiquon schedule list", len(found), name,
		)
	}
	return s, found[0], nil
}
