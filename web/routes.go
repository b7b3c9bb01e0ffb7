package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/service/act"
)

// routes binds every operation declared in api; a test checks that none is left out.
func (w *server) routes() {
	s := w.service
	w.bindSessions()
	bind(w, api.ListProviders, s.ListProviders)
	bind(w, api.GetMe, s.Me)
	bind(w, api.SetPassword, s.SetPassword)
	bind(w, api.CreateLink, s.CreateLink)
	bind(w, api.ListSessions, s.ListSessions)
	bind(w, api.EndSession, s.EndSession)
	bind(w, api.ListPeople, s.ListPeople)
	bind(w, api.AddPerson, s.AddPerson)
	bind(w, api.ChangePerson, s.ChangePerson)
	bind(w, api.CreateLinkFor, s.CreateLinkFor)
	bind(w, api.CreateTokenFor, s.CreateTokenFor)
	bind(w, api.ListCredentials, s.ListCredentials)
	bind(w, api.EndCredentials, s.EndCredentials)
	bind(w, api.ListTeams, s.ListTeams)
	bind(w, api.SetTeam, s.SetTeam)
	bind(w, api.DropTeam, s.DropTeam)
	bind(w, api.ListRoles, s.ListRoles)
	bind(w, api.SetRole, s.SetRole)
	bind(w, api.DropRole, s.DropRole)
	bind(w, api.ListProjectRoles, s.ListProjectRoles)
	bind(w, api.SetProjectRole, s.SetProjectRole)
	bind(w, api.DropProjectRole, s.DropProjectRole)
	bind(w, api.GetAudit, s.GetAudit)
	bind(w, api.GetProjectAudit, s.GetProjectAudit)
	bind(w, api.CheckAudit, s.CheckAudit)
	bind(w, api.ListTokens, s.ListTokens)
	bind(w, api.CreateToken, s.CreateToken)
	bind(w, api.RevokeToken, s.RevokeToken)
	bind(w, api.GetHealth, func(context.Context, act.Who, *struct{}) (*api.Health, error) {
		h := s.Health()
		return &h, nil
	})
	bind(w, api.GetReady, func(ctx context.Context, _ act.Who, _ *struct{}) (*api.Health,
		error) {
		return s.Ready(ctx)
	})

	bind(w, api.ListModels, s.ListModels)
	bind(w, api.CreateModel, s.CreateModel)
	bind(w, api.GetModel, s.GetModel)
	bind(w, api.ChangeModel, s.ChangeModel)
	bind(w, api.ListEditions, s.ListEditions)
	bind(w, api.AddEdition, s.AddEdition)
	bind(w, api.GetEdition, s.GetEdition)
	bindStream(w, api.GetEditionFile, w.editionFile)
	bind(w, api.GetDescription, s.GetDescription)
	bindStream(w, api.ExportDescription, w.description)
	bind(w, api.ListRules, s.ListRules)
	bind(w, api.AddRule, s.AddRule)
	bind(w, api.TryRule, s.TryRule)
	bind(w, api.ClearRule, s.ClearRule)
	bind(w, api.ListSubscriptions, s.ListSubscriptions)
	bind(w, api.CreateSubscription, s.CreateSubscription)
	bind(w, api.GetSubscription, s.GetSubscription)
	bind(w, api.ChangeSubscription, s.ChangeSubscription)
	bind(w, api.DeleteSubscription, s.DeleteSubscription)
	bind(w, api.NewSubscriptionSecret, s.NewSubscriptionSecret)
	bind(w, api.TrySubscription, s.TrySubscription)
	bind(w, api.ListDeliveries, s.ListDeliveries)
	bind(w, api.GetDelivery, s.GetDelivery)
	bind(w, api.SendAgain, s.SendAgain)
	bind(w, api.SendParked, s.SendParked)
	bind(w, api.GetStanding, s.GetStanding)
	bind(w, api.AskFor, s.AskFor)
	bind(w, api.GoBack, s.GoBack)
	bind(w, api.AddSignOff, s.AddSignOff)
	bind(w, api.WithdrawSignOff, s.WithdrawSignOff)
	bind(w, api.EndAsking, s.EndAsking)
	bind(w, api.ReportCheck, s.ReportCheck)
	bind(w, api.ReportUse, s.ReportUse)

	bind(w, api.ListProjects, s.ListProjects)
	bind(w, api.CreateProject, s.CreateProject)
	bind(w, api.GetProject, s.GetProject)
	bind(w, api.GetImprovements, s.GetImprovements)
	bind(w, api.ChangeProject, s.ChangeProject)
	bind(w, api.DeleteProject, s.DeleteProject)
	bind(w, api.SetBaseline, s.SetBaseline)
	bind(w, api.ListRuns, s.ListRuns)
	bind(w, api.CompleteFilter, s.CompleteFilter)
	bind(w, api.ListLandmarks, s.ListLandmarks)
	bind(w, api.GetWords, s.GetWords)
	bind(w, api.ArchiveRun, s.ArchiveRun)
	bind(w, api.DeleteRun, s.DeleteRun)
	bind(w, api.KeepRun, s.KeepRun)
	bind(w, api.ListViews, s.ListViews)
	bind(w, api.Compare, s.Compare)
	bindStream(w, api.CompareDocument, w.comparison)
	bind(w, api.ListSearches, s.ListSearches)
	bind(w, api.CreateSearch, s.CreateSearch)
	bind(w, api.GetSearch, s.GetSearch)
	bind(w, api.ChangeSearch, s.ChangeSearch)
	bind(w, api.ArchiveSearch, s.ArchiveSearch)
	bind(w, api.DeleteSearch, s.DeleteSearch)
	bind(w, api.GetLearning, s.GetLearning)
	bind(w, api.GetMattered, s.GetMattered)
	bind(w, api.GetTradeOff, s.GetTradeOff)
	bind(w, api.KeepView, s.KeepView)
	bind(w, api.DropView, s.DropView)
	bind(w, api.BeginRun, s.BeginRun)
	bind(w, api.GetRun, s.GetRun)
	bind(w, api.ChangeRun, s.ChangeRun)
	bind(w, api.LeaveNote, s.LeaveNote)

	bind(w, api.OpenLeg, s.OpenLeg)
	bind(w, api.NameCurves, s.NameCurves)
	bind(w, api.SendBatch, func(ctx context.Context, who act.Who, in *api.BatchInput) (*api.Counted, error) {
		out, err := s.SendBatch(ctx, who, in)
		if err == nil {
			w.metrics.readings.Add(float64(out.Readings))
		}
		return out, err
	})
	bind(w, api.ShowLife, s.ShowLife)
	bind(w, api.SendOutput, s.SendOutput)
	bind(w, api.UseData, s.UseData)
	bind(w, api.EndLeg, s.EndLeg)
	bind(w, api.GetOutput, s.GetOutput)

	bind(w, api.GetCurves, s.GetCurves)
	bindStream(w, api.GetEvents, w.events)
	bindStream(w, api.GetHistory, w.history)
	bind(w, api.AddHistory, s.AddHistory)

	bind(w, api.DisputeVerdict, s.DisputeVerdict)
	bind(w, api.UndisputeVerdict, s.UndisputeVerdict)
	bind(w, api.GetStopRule, s.GetStopRule)
	bind(w, api.SetStopRule, s.SetStopRule)
	bind(w, api.DropStopRule, s.DropStopRule)
	bind(w, api.StopRun, s.StopRun)
	bind(w, api.SetRunRule, s.SetRunRule)
	bind(w, api.DropRunRule, s.DropRunRule)
	bind(w, api.TryStopRule, s.TryStopRule)

	bind(w, api.ListCheckpoints, s.ListCheckpoints)
	bind(w, api.GetCheckpoint, s.GetCheckpoint)
	bind(w, api.CommitCheckpoint, s.CommitCheckpoint)
	bind(w, api.FreeStorage, w.service.FreeStorage)
	bindStream(w, api.GetFile, w.file)
	bind(w, api.GetTensors, s.GetTensors)
	bind(w, api.GetWeights, s.GetWeights)
	bind(w, api.MatchTensors, s.MatchTensors)
	bind(w, api.GetDifference, s.GetDifference)
	bind(w, api.AddEvaluation, s.AddEvaluation)
	bind(w, api.ListEvaluations, s.ListEvaluations)
	bind(w, api.GetEvaluation, s.GetEvaluation)
	bind(w, api.AddRunFile, s.AddRunFile)
	bind(w, api.ListRunFiles, s.ListRunFiles)
	bindStream(w, api.GetRunFile, w.runFile)
	bind(w, api.ViewRunFile, s.ViewRunFile)
	bind(w, api.DropRunFile, s.DropRunFile)
	bind(w, api.GetRunFilesDifference, s.GetRunFilesDifference)
	bind(w, api.GetFileRule, s.GetFileRule)
	bind(w, api.SetFileRule, s.SetFileRule)
	bind(w, api.DropFileRule, s.DropFileRule)
	bind(w, api.MissingChunks, s.MissingChunks)
	w.bindChunks()
	bind(w, api.ListDatasets, s.ListDatasets)
	bind(w, api.ListSnapshots, s.ListSnapshots)
	bind(w, api.GetSnapshot, s.GetSnapshot)
	bind(w, api.ListItems, s.ListItems)
	bindStream(w, api.GetItemsFile, w.items)
	bindStream(w, api.GetItemBytes, w.itemBytes)
	bind(w, api.GetLineage, s.GetLineage)
	bindStream(w, api.GetProvenance, w.provenance)
	bind(w, api.AddSheet, s.AddSheet)
	bind(w, api.ListSheets, s.ListSheets)
	bind(w, api.GetSheet, s.GetSheet)
	bind(w, api.ListExamples, s.ListExamples)
	bind(w, api.GetExample, s.GetExample)
	bindStream(w, api.GetExampleMedia, w.exampleMedia)
	bindStream(w, api.GetExamplesFile, w.examples)
	bind(w, api.SetMark, s.SetMark)
	bind(w, api.DropMark, s.DropMark)
	bind(w, api.ListMarks, s.ListMarks)
	bind(w, api.GetCutoffs, s.GetCutoffs)
	bind(w, api.GetDisagreement, s.GetDisagreement)
	bind(w, api.GetSnapshotDifference, s.GetSnapshotDifference)
	bind(w, api.BeginDraft, s.BeginDraft)
	bind(w, api.GetDraft, s.GetDraft)
	bind(w, api.PutBlock, s.PutBlock)
	bind(w, api.CommitDraft, s.CommitDraft)
	bind(w, api.GetKeepRule, s.GetKeepRule)
	bind(w, api.SetKeepRule, s.SetKeepRule)
	bind(w, api.DropKeepRule, s.DropKeepRule)
	bind(w, api.GetRunKeepRule, s.GetRunKeepRule)
	bind(w, api.SetRunKeepRule, s.SetRunKeepRule)
	bind(w, api.DropRunKeepRule, s.DropRunKeepRule)
	bind(w, api.TryKeepRule, s.TryKeepRule)
	bind(w, api.PinCheckpoint, s.PinCheckpoint)
	bind(w, api.DropCheckpoint, s.DropCheckpoint)
	bind(w, api.KeepCheckpoint, s.KeepCheckpoint)
	bind(w, api.GetStorage, s.GetStorage)
	bind(w, api.GetBlobs, s.GetBlobs)
	bind(w, api.CheckBlobs, s.CheckBlobs)
}

// chunkIn reads a chunk into memory that is used again.
type chunkIn struct {
	Digest string `path:"digest" maxLength:"80"`
	room   *[]byte
	size   int
}

var chunkRooms = sync.Pool{New: func() any { b := make([]byte, chunk.MaxSize+1); return &b }}

func (c *chunkIn) Resolve(ctx huma.Context) []error {
	g := humagin.Unwrap(ctx)
	extendDeadline(g.Writer)
	c.room = chunkRooms.Get().(*[]byte)
	n, err := io.ReadFull(g.Request.Body, *c.room)
	c.size = n
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return []error{err}
	}
	return nil
}

// bindChunks registers the sending of chunks, which is most of what a service takes in.
func (w *server) bindChunks() {
	op := w.describe(api.PutChunk.Spec, asAnswer)
	op.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string",
			Format: "binary"}}}}
	huma.Register(w.huma, op, func(ctx context.Context, in *chunkIn) (*struct{}, error) {
		defer chunkRooms.Put(in.room)
		w.metrics.chunks.Add(float64(in.size))
		if _, err := w.service.PutChunk(ctx, whoAsks(ctx), &api.ChunkInput{Digest: in.Digest,
			RawBody: (*in.room)[:in.size]}); err != nil {
			return nil, w.service.Problem(err)
		}
		return nil, nil
	})
}

// manner is how an operation is answered: at once, or as a stream that takes as long as its reader and ends with the
// reader's credential.
type manner int

const (
	asAnswer manner = iota
	asStream
)

// describe turns a declaration into Huma's, with a guard that asks who is there before anything of the request is read.
func (w *server) describe(s api.Spec, how manner) huma.Operation {
	guard := func(ctx huma.Context, next func(huma.Context)) {
		g := humagin.Unwrap(ctx)
		if err := w.allowed(g, s); err != nil {
			p := w.service.Problem(err)
			huma.WriteErr(w.huma, ctx, p.Status, p.Detail, p)
			return
		}
		defer w.weighBody(g.Request, whoAsks(ctx.Context()).ID, s)()
		if s.Recorders {
			g.Request = g.Request.WithContext(act.ForRecorders(g.Request.Context()))
		}
		switch {
		case how == asStream:
			good, release := w.service.WhileGood(g.Request.Context(), whoAsks(ctx.Context()))
			defer release()
			g.Request = g.Request.WithContext(good)
		case !s.Long:
			limited, cancel := context.WithTimeout(g.Request.Context(), requestTime)
			defer cancel()
			g.Request = g.Request.WithContext(limited)
		}
		next(ctx)
	}
	op := huma.Operation{Middlewares: huma.Middlewares{guard}, OperationID: s.ID, Method: s.Method,
		Path: api.Base + s.Path, Summary: s.Summary, DefaultStatus: s.Status,
		MaxBodyBytes: s.MaxBody, SkipValidateBody: s.OwnCheck, BodyReadTimeout: requestTime}
	if s.Access != api.Anyone {
		op.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	}
	if s.Access != api.Anyone {
		op.Description = sayAccess(s)
	}
	return op
}

// sayAccess is who may call an operation, as a sentence.
func sayAccess(s api.Spec) string {
	where := " on the service"
	switch {
	case strings.Contains(s.Path, "{project}"):
		where = " on the project"
	case strings.Contains(s.Path, "{model}"):
		where = " on the model's project"
	case s.Anywhere:
		where = " on any project"
	}
	text := "For whoever is signed in"
	switch {
	case s.Access == api.Administrator:
		text = "For administrators"
	case s.Access > api.SignedIn:
		text = "For the role " + s.Access.String() + where
	}
	if s.Own != 0 {
		text += ", and for " + s.Own.String() + "s who made the run"
	}
	if s.Whole {
		text += "; not with a narrowed token"
	}
	return text + "."
}

// unchanged is answered without a body.
type unchanged struct{ act.Unchanged }

func (unchanged) GetStatus() int { return http.StatusNotModified }

type answer[O any] struct {
	Link string `header:"Link"`
	Body *O
}

// tagged is an answer that whoever has it need not be told again.
type tagged[O any] struct {
	ETag string `header:"ETag"`
	Body *O
}

// bind registers an operation with a JSON answer, or with none.
func bind[I, O any](w *server, op api.Operation[I, O], do func(context.Context, act.Who, *I) (*O, error)) {
	call := func(ctx context.Context, in *I) (*O, error) {
		out, err := do(ctx, whoAsks(ctx), in)
		if same, is := errors.AsType[act.Unchanged](err); is {
			return nil, huma.ErrorWithHeaders(unchanged{same}, http.Header{"Etag": {string(same)}})
		}
		if err != nil {
			return nil, w.service.Problem(err)
		}
		return out, nil
	}
	var sample any = new(O)
	if _, none := sample.(*api.None); none {
		huma.Register(w.huma, w.describe(op.Spec, asAnswer), func(ctx context.Context, in *I) (*struct{}, error) {
			_, err := call(ctx, in)
			return nil, err
		})
		return
	}
	if _, has := sample.(interface{ EntityTag() string }); has && op.Method == "GET" {
		described := w.describe(op.Spec, asAnswer)
		described.Responses = map[string]*huma.Response{"304": {Description: "It has not changed"}}
		huma.Register(w.huma, described, func(ctx context.Context, in *I) (*tagged[O], error) {
			out, err := call(ctx, in)
			if err != nil {
				return nil, err
			}
			return &tagged[O]{ETag: any(out).(interface{ EntityTag() string }).EntityTag(), Body: out}, nil
		})
		return
	}
	huma.Register(w.huma, w.describe(op.Spec, asAnswer), func(ctx context.Context, in *I) (*answer[O], error) {
		out, err := call(ctx, in)
		if err != nil {
			return nil, err
		}
		a := &answer[O]{Body: out}
		if page, ok := any(out).(interface{ NextPage() string }); ok && page.NextPage() != "" {
			a.Link = fmt.Sprintf(`<?cursor=%s>; rel="next"`, url.QueryEscape(page.NextPage()))
		}
		return a, nil
	})
}

// bindStream registers an operation that writes its answer itself.
func bindStream[I any](w *server, op api.Operation[I, api.None],
	do func(context.Context, act.Who, *I) (*huma.StreamResponse, error)) {
	described := w.describe(op.Spec, asStream)
	described.Responses = downloads(op.Spec)
	huma.Register(w.huma, described, func(ctx context.Context, in *I) (*huma.StreamResponse, error) {
		out, err := do(ctx, whoAsks(ctx), in)
		if err != nil {
			return nil, w.service.Problem(err)
		}
		return out, nil
	})
}

// downloads are the answers of an operation that writes them itself.
func downloads(op api.Spec) map[string]*huma.Response {
	content := map[string]*huma.MediaType{}
	for _, media := range op.Media {
		kind := &huma.Schema{Type: "string", Format: "binary"}
		if strings.HasPrefix(media, "text/") {
			kind.Format = ""
		}
		if strings.HasSuffix(media, "json") {
			kind = &huma.Schema{}
		}
		content[media] = &huma.MediaType{Schema: kind}
	}
	out := map[string]*huma.Response{"200": {Description: "OK", Content: content}}
	if op.Parts {
		out["206"] = &huma.Response{Description: "The part that was asked for (Range)", Content: content}
		out["304"] = &huma.Response{Description: "It has not changed (If-None-Match)"}
	}
	return out
}

// namesCBOR says of every operation that what it takes and gives as JSON it takes and gives as CBOR too.
func (w *server) namesCBOR() {
	both := func(content map[string]*huma.MediaType) {
		if as, is := content["application/json"]; is && as.Schema != nil && as.Schema.Ref != "" {
			content[api.CBOR] = as
		}
	}
	for _, path := range w.huma.OpenAPI().Paths {
		for _, op := range []*huma.Operation{path.Get, path.Put, path.Post, path.Patch, path.Delete} {
			if op == nil {
				continue
			}
			if op.RequestBody != nil {
				both(op.RequestBody.Content)
			}
			for _, response := range op.Responses {
				both(response.Content)
			}
		}
	}
}
