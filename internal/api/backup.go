package api

import (
	"encoding/json"
	"net/http"
	"time"

	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/store"
)

// backup streams the whole data folder as one sealed file.
func (s *server) backup(w http.ResponseWriter, r *http.Request) {
	name := actor(r.Context())
	if name == "" {
		s.answerProblem(w, r, signedOut())
		return
	}
	var in struct {
		Passphrase secret.Secret `json:"passphrase"`
	}
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || len(in.Passphrase.Expose()) < 12 {
		var f problem.Fields
		f.Add("passphrase", "at least 12 characters; the backup cannot be opened without it", "")
		s.answerProblem(w, r, f.Err("The backup was not made."))
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", `attachment; filename="fado-`+time.Now().UTC().Format("2006-01-02")+`.backup"`)
	if err := s.Store.Backup(r.Context(), w, in.Passphrase); err != nil {
		s.o.Log.Error("make a backup", "error", err)
		// The head is sent; breaking the connection tells that it is not whole.
		panic(http.ErrAbortHandler)
	}
	_ = s.Record(r.Context(), store.Event{Actor: name, Kind: "backup", Text: name + " made a backup."})
}
