package learn

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
)

// A Question is what a target cannot show.
type Question struct {
	// Key is what it is about, the same each time that the target is learnt from.
	Key string `json:"key"`
	Say string `json:"say"`
	// Usual is what is proposed; "" for nothing.
	Usual string `json:"usual,omitempty"`
	// Choices are the answers that there are; none where any text is one.
	Choices []string `json:"choices,omitempty"`
	// Path is the file on the target that it is about; "" for none.
	Path string `json:"path,omitempty"`
}

// An Answer is what a person has said.
type Answer struct {
	Key    string `toml:"question" json:"question"`
	Answer string `toml:"answer"   json:"answer"`
}

// Answers are those that were given, the latest of each question last.
type Answers []Answer

// To is the answer to a question; ok is false where there is none.
func (a Answers) To(key string) (answer string, ok bool) {
	for _, x := range slices.Backward(a) {
		if x.Key == key {
			return x.Answer, true
		}
	}
	return "", false
}

// Yes and NoField are answers to what was found of a field: it is right, or games have no such field.
const (
	Yes     = "yes"
	NoField = "none"
)

// Ignored are the answers that say that a file is none of the console's.
const Ignored = "ignore"

// LeaveOut reports whether a person has said that a path is none of the console's.
func (a Answers) LeaveOut(path string) bool {
	return slices.ContainsFunc(a, func(x Answer) bool {
		what, ok := strings.CutPrefix(x.Key, "file ")
		return ok && x.Answer == Ignored && (what == path || strings.HasPrefix(path, what+"/"))
	})
}

// hints are the answers that say what stands in a game: "PATH: VALUE", or nothing where the games have no such value.
func (a Answers) hints() (out []teach.Hint) {
	for _, x := range a {
		field, platform, ok := strings.Cut(x.Key, " ")
		if !ok || platform == "" || !slices.Contains(loader.FieldNames, field) {
			continue
		}
		if at, value, is := strings.Cut(x.Answer, ": "); is {
			out = append(out, teach.Hint{Field: field, Path: at, Value: value})
		}
	}
	return out
}

// apply has platforms that were worked out say what a person has: they leave out what is not there, are sure of what is
// right, and know the words for values.
func (a Answers) apply(taught []*teach.Platform) {
	for _, p := range taught {
		for name, f := range p.Fields {
			answer, _ := a.To(name + " " + p.Name)
			if answer == NoField {
				delete(p.Fields, name)
				continue
			}
			f.Sure = f.Sure || answer == Yes
			f.Unseen = slices.DeleteFunc(slices.Clone(f.Unseen), func(v string) bool {
				word, ok := a.To(wordKey(name, p.Name, v))
				if ok && word != "" {
					f.Values[v] = word
				}
				return ok
			})
			p.Fields[name] = f
		}
	}
}

func wordKey(field, platform, value string) string {
	return "word " + field + " " + platform + " " + value
}

// unseen asks for the words for values in a path that no game shows; it reports whether there are any.
func (s *student) unseen(r *Rule) (some bool) {
	p := s.taughtBy(r.Platforms[0])
	if p == nil {
		return false
	}
	for _, name := range []string{"kind", "region"} {
		f, ok := p.Fields[name]
		if !ok || !strings.Contains(r.Path, "{"+name) {
			continue
		}
		for _, v := range f.Unseen {
			some = true
			s.ask(Question{Key: wordKey(name, p.Name, v), Path: p.Such, Usual: f.Values[v], Say: fmt.Sprintf(
				"what is the %s %s called in %s? No game there has it", name, v, r.Path)}, nil)
		}
	}
	return some
}

// ask puts a question, or takes what was answered to it. An answer that cannot be used is said with the question.
func (s *student) ask(q Question, take func(answer string) error) {
	answer, ok := s.look.Answers.To(q.Key)
	if ok {
		err := s.accepts(&q, answer, take)
		if err == nil {
			return
		}
		q.Say += fmt.Sprintf(" (your answer %q: %v)", answer, err)
	}
	s.d.Open = append(s.d.Open, q)
}

func (s *student) accepts(q *Question, answer string, take func(string) error) error {
	if len(q.Choices) > 0 && !slices.Contains(q.Choices, answer) {
		return fmt.Errorf("answer one of %s", strings.Join(q.Choices, ", "))
	}
	if take == nil {
		return nil
	}
	return take(answer)
}

// wonder notes that something is not explained, of which nobody can say more than that it shall be left out.
func (s *student) wonder(path, say string, args ...any) {
	s.ask(Question{Key: "file " + path, Say: fmt.Sprintf(say, args...), Usual: Ignored,
		Choices: []string{Ignored, "keep"}, Path: path}, nil)
}

// doubted notes what is odd about a file that a rule explains: it stays, unless a person says otherwise.
func (s *student) doubted(path, say string, args ...any) {
	s.ask(Question{Key: "file " + path, Say: fmt.Sprintf(say, args...), Usual: "keep",
		Choices: []string{"keep", Ignored}, Path: path}, nil)
}

// contradict notes what speaks against the draft.
func (s *student) contradict(say string, args ...any) {
	s.d.Against = append(s.d.Against, fmt.Sprintf(say, args...))
}
