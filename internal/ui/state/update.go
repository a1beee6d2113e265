package state

import tea "charm.land/bubbletea/v2"

// Taken is what a message leaves to do for the root of the screen.
type Taken struct {
	Cmd     tea.Cmd
	Refresh bool // titles, targets or checks changed: the screen that is shown must list them again
	Ask     bool // there may be a question now
}

// Update takes in what slow work and other programs report to all screens; ok is false for any other message. Only the
// goroutine of the screen may call it.
func (d *State) Update(msg tea.Msg) (t Taken, ok bool) {
	switch msg := msg.(type) {
	case changedMsg:
		t.Cmd = d.filesChanged(msg)
	case plugMsg:
		t.Cmd = d.plugged(msg)
	case ScanMsg:
		t.Cmd, t.Refresh = d.SetScan(msg), true
	case SurveyMsg:
		t.Cmd = d.SetSurvey(msg)
		t.Refresh, t.Ask = true, true
	case PlanMsg:
		t.Cmd = d.SetPlan(msg)
		t.Ask = true
	case InterviewMsg:
		t.Cmd = d.SetInterview(msg)
	case KeptMsg:
		d.SetKept(msg)
		t.Refresh = true
	case NotedMsg:
		t.Cmd = d.SetNoted(msg)
	case LedgerMsg:
		t.Cmd, t.Refresh = d.SetLedger(msg), true
	case SavesMsg:
		t.Cmd, t.Refresh = d.SetSaves(msg), true
	case KitMsg:
		t.Cmd, t.Refresh = d.SetKit(msg), true
	case EjectedMsg:
		t.Cmd = d.SetEjected(msg)
	case ForeseenMsg:
		t.Cmd = d.SetForeseen(msg)
		t.Refresh, t.Ask = true, true
	case SharingMsg:
		d.SetSharing(msg)
	case SupposingMsg:
		t.Cmd = d.SetSupposing(msg)
	case RunMsg:
		t.Cmd = d.SetRun(msg)
	case ServingMsg:
		t.Cmd = d.SetServing(msg)
	case DockMsg:
		t.Cmd, t.Refresh = d.SetDock(msg), true
	case DiscsMsg:
		t.Cmd, t.Refresh = d.SetDiscs(msg), !msg.same
	case SettledMsg:
		d.SetSettled(msg)
		t.Ask = true
	case DiscEjectedMsg:
		t.Cmd = d.SetDiscEjected(msg)
	case DiscJobMsg:
		t.Cmd, t.Refresh = d.SetDiscJob(msg)
	case MovedMsg:
		t.Cmd = d.SetMoved(msg)
	case HistoryMsg:
		d.SetHistory(msg)
		t.Ask = true
	case CheckMsg:
		t.Cmd, t.Refresh = d.SetCheck(msg), true
	case FetchMsg:
		t.Cmd = d.SetFetch(msg)
	case SeenMsg:
		t.Cmd = d.SetSeen(msg)
	case DrawnMsg:
		d.SetDrawn(msg)
	case ConnectionsMsg:
		t.Cmd = d.SetConnections(msg)
	case LinkMsg:
		d.SetLink(msg)
	case VerifyMsg:
		t.Cmd = d.SetVerify(msg)
	case SavedMsg:
		d.SetSaved(msg)
	default:
		return t, false
	}
	return t, true
}
