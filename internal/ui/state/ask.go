package state

import (
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/secret"
	"polytome/internal/target/remote"
)

// A Question asks at the foot of the screen: for a line of text, or whether something shall be done.
type Question struct {
	Prompt string
	Value  string // what stands there at first
	Hint   string // what may be written, and what happens
	Secret bool   // what is written is not shown
	// Suggestions are what tab completes.
	Suggestions []string
	// Paths has tab complete folders of this computer.
	Paths bool
	// Agree is set where nothing is typed: enter agrees, esc refuses.
	Agree bool
	// Other are what else can be answered to a question of that kind, each with a key.
	Other []Action
	// Done takes the answer; "" where someone agrees.
	Done func(answer string) tea.Cmd
}

// Agree asks whether something shall be done that writes: enter does it.
func (d *State) Agree(prompt, hint string, do func() tea.Cmd, other ...Action) {
	d.Ask(Question{Prompt: prompt, Hint: hint, Agree: true, Other: other,
		Done: func(string) tea.Cmd { return do() }})
}

// Ask shows a question. The answer comes when the user has written one; esc takes it back.
func (d *State) Ask(q Question) { d.Question = &q }

// An AskMsg is a question that was made in the background.
type AskMsg struct{ Question Question }

// askFor asks for what a target's server wants, once for each time that it does not let the user in: a password, or
// that its key is accepted.
func (d *State) askFor(n int, err error) {
	var key *remote.HostKeyError
	if errors.As(err, &key) && !key.Changed && d.Question == nil {
		d.askKey(n, key)
		return
	}
	var denied *remote.LoginError
	if !errors.As(err, &denied) || denied.User == "" || d.Question != nil {
		return
	}
	host, user := denied.Address.Host, denied.User
	again := d.Later(n, d.SurveyTarget)
	hint := "it is stored in the system's keyring if there is one, and nowhere else"
	if denied.Given {
		hint = "that one was refused: the user name or the password is wrong; " + hint
	}
	d.Ask(Question{Prompt: fmt.Sprintf("Password of %s on %s: ", user, host), Hint: hint, Secret: true,
		Done: func(answer string) tea.Cmd {
			if answer == "" {
				return nil
			}
			secret.Remember(host, user, answer)
			look := again()
			if look == nil {
				return nil
			}
			return func() tea.Msg {
				m := look()
				var still *remote.LoginError
				if s, ok := m.(SurveyMsg); ok && s.err == nil && !errors.As(s.survey.Away, &still) { // it lets in
					_ = secret.Keep(host, user, answer) // without a keyring it is asked for at each start
				}
				return m
			}
		}})
}

// askKey asks whether the key of a server is accepted.
func (d *State) askKey(n int, key *remote.HostKeyError) {
	again := d.Later(n, d.SurveyTarget)
	d.Ask(Question{Prompt: fmt.Sprintf("Accept the host key of %s (yes or no)? ", key.Address.Host),
		Hint: key.Fingerprint + " must be what that machine shows itself", Suggestions: []string{"yes", "no"},
		Done: func(answer string) tea.Cmd {
			if !strings.EqualFold(strings.TrimSpace(answer), "yes") {
				d.Notice = "The host key of " + key.Address.Host + " was not accepted."
				return nil
			}
			if err := key.Accept(); err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			return again()
		}})
}
