package api

import (
	"bytes"
	"context"
	"encoding/json"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/firmware"
	"fado/internal/core/problem"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

func asFeed(f store.Feed) wire.Feed {
	return wire.Feed{ID: f.ID, Name: f.Name, URL: f.URL, Minutes: f.Minutes, ReadAt: f.ReadAt, Trouble: f.Trouble, TroubleSince: f.TroubleSince}
}

func asRelease(r engine.Release) wire.Release {
	return wire.Release{Feed: r.Feed, SHA256: r.SHA256, Firmware: r.Firmware, Version: r.Version, Channel: firmware.Channel(r.Channel), Models: r.Image.Models, Here: r.Suits, Size: r.Image.Size,
		OldestFrom: r.Image.OldestFrom, Step: r.Image.Step, Signed: r.Image.Manifest != "", Notes: r.Notes, Published: r.Published, FirstSeen: r.FirstSeen, Taken: r.Taken, Gone: r.Gone, Twin: r.Twin}
}

// factsOf reads the facts that come with an upload.
func factsOf(text string) (engine.ImageFacts, error) {
	var f wire.ImageFacts
	d := json.NewDecoder(strings.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&f); err != nil {
		var bad problem.Fields
		bad.Add("facts", "the facts of the image as JSON: "+err.Error(), `{"firmware":"junco","version":"1.4.0","models":["junco"]}`)
		return engine.ImageFacts{}, bad.Err("The image was not added.")
	}
	if f.Channel == "" {
		f.Channel = string(firmware.Stable)
	}
	if f.Part == "" {
		f.Part = string(firmware.Program)
	}
	return engine.ImageFacts{Firmware: f.Firmware, Version: f.Version, Channel: f.Channel, Part: f.Part, Chip: f.Chip,
		OldestFrom: f.OldestFrom, Notes: f.Notes, Models: f.Models, NeedsKiB: f.NeedsKiB, Step: f.Step, Manifest: f.Manifest, Unsigned: f.Unsigned}, nil
}

func (s *server) feedRoutes(api huma.API) {
	handle(s, api, "GET", "/feeds", "list-feeds", "List the release feeds", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Feed], error) {
		list, err := store.All[store.Feed](s.Store.Read(ctx), "name", "1 = 1")
		out := []wire.Feed{}
		for _, f := range list {
			out = append(out, asFeed(f))
		}
		return &reply[[]wire.Feed]{out}, err
	})
	handle(s, api, "POST", "/feeds", "add-feed", "Add a release feed, which is read at once", 201, func(ctx context.Context, in *withBody[wire.FeedEdit]) (*reply[wire.Feed], error) {
		f, err := s.AddFeed(ctx, actor(ctx), in.Body.Name, in.Body.URL, in.Body.Minutes)
		return &reply[wire.Feed]{asFeed(f)}, err
	})
	handle(s, api, "POST", "/feeds/{id}/poll", "poll-feed", "Read a feed now", 200, func(ctx context.Context, in *path1) (*reply[wire.Feed], error) {
		f, err := s.PollFeed(ctx, in.ID)
		return &reply[wire.Feed]{asFeed(f)}, err
	})
	handle(s, api, "DELETE", "/feeds/{id}", "remove-feed", "Remove a feed; what was taken from it stays", 204, func(ctx context.Context, in *path1) (*none, error) {
		return &none{}, s.RemoveFeed(ctx, actor(ctx), in.ID)
	})
	handle(s, api, "GET", "/releases", "list-releases", "What feeds offer and is not here yet, the newest first", 200, func(ctx context.Context, in *struct {
		All bool `query:"all" doc:"What was taken, is gone, or is for models that there are none of here, too"`
	}) (*reply[[]wire.Release], error) {
		list, err := s.Releases(ctx, in.All)
		out := []wire.Release{}
		for _, r := range list {
			out = append(out, asRelease(r))
		}
		return &reply[[]wire.Release]{out}, err
	})
	handle(s, api, "POST", "/releases/{id}/take", "take-release", "Fetch an image that a feed offers, and add it", 201, func(ctx context.Context, in *path1) (*reply[wire.Image], error) {
		i, err := s.TakeRelease(ctx, actor(ctx), in.ID)
		return &reply[wire.Image]{asImage(i)}, err
	})
	handle(s, api, "GET", "/uploads/{id}", "show-upload", "How far a file has come in, by its SHA-256", 200, func(_ context.Context, in *path1) (*reply[wire.Upload], error) {
		u, err := s.UploadAt(in.ID)
		return &reply[wire.Upload]{wire.Upload(u)}, err
	})
	handle(s, api, "PUT", "/uploads/{id}", "upload-part", "Send a part of a file, from where it stands", 200, func(ctx context.Context, in *struct {
		ID      string `path:"id" doc:"SHA-256 of the whole file"`
		Offset  int64  `query:"offset" doc:"Where the part begins: where the file stands"`
		RawBody []byte `contentType:"application/octet-stream"`
	}) (*reply[wire.Upload], error) {
		u, err := s.UploadPart(ctx, in.ID, in.Offset, bytes.NewReader(in.RawBody))
		return &reply[wire.Upload]{wire.Upload(u)}, err
	})
	handle(s, api, "POST", "/uploads/{id}/image", "finish-upload", "Add the image that came in by parts", 201, func(ctx context.Context, in *pathBody[wire.ImageFacts]) (*reply[wire.Image], error) {
		f, err := factsOf(string(store.JSON(in.Body)))
		if err != nil {
			return nil, err
		}
		i, err := s.FinishUpload(ctx, actor(ctx), in.ID, f)
		return &reply[wire.Image]{asImage(i)}, err
	})
	handle(s, api, "POST", "/images/archive", "import-archive", "Look through a zip archive of builds; with keep, add them when none is refused", 200, func(ctx context.Context, in *struct {
		Keep    bool `query:"keep"`
		RawBody huma.MultipartFormFiles[struct {
			File  huma.FormFile `form:"file" required:"true"`
			Facts string        `form:"facts" required:"true" doc:"ImageFacts as JSON, for what neither the archive nor a file says"`
		}]
	}) (*reply[[]wire.Found], error) {
		form := in.RawBody.Data()
		defer form.File.Close()
		common, err := factsOf(form.Facts)
		if err != nil {
			return nil, err
		}
		list, err := s.ImportArchive(ctx, actor(ctx), form.File, form.File.Size, common, in.Keep)
		out := []wire.Found{}
		for _, f := range list {
			out = append(out, wire.Found{Name: f.Name, Size: f.Size, SHA256: f.SHA256, Format: f.Format, Firmware: f.Facts.Firmware, Version: f.Facts.Version, Channel: f.Facts.Channel, Models: f.Facts.Models, Outcome: f.Outcome, Why: f.Why})
		}
		return &reply[[]wire.Found]{out}, err
	})
}
