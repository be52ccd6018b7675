package view

import "morvant/internal/feed/trial"

type trialStepJSON struct {
	Step  string `json:"step"`
	OK    bool   `json:"ok"`
	Said  string `json:"said,omitempty"`
	Wrong string `json:"wrong,omitempty"`
}

// TrialJSON is the trial of an adapter.
type TrialJSON struct {
	Schema string          `json:"schema"`
	OK     bool            `json:"ok"`
	Steps  []trialStepJSON `json:"steps"`
	Wrong  []string        `json:"wrong"`
	Odd    []string        `json:"odd"`
	Log    string          `json:"log,omitempty"`
}

// ToTrial makes it.
func ToTrial(r *trial.Report) TrialJSON {
	j := TrialJSON{Schema: "morvant-adapter-tried/1", OK: r.OK(), Steps: []trialStepJSON{}, Wrong: append([]string{}, r.Wrong...), Odd: append([]string{}, r.Odd...), Log: r.Log}
	for _, s := range r.Steps {
		step := trialStepJSON{Step: s.Name, OK: s.Err == nil, Said: s.Said}
		if s.Err != nil {
			step.Said, step.Wrong = "", s.Err.Error()
		}
		j.Steps = append(j.Steps, step)
	}
	return j
}
