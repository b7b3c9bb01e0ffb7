package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/client"
	"kembrel/console"
	"kembrel/service"
	"kembrel/service/subscriptions"
	"kembrel/store/blob"
	"kembrel/store/pg"
	"kembrel/store/pg/db"
	"kembrel/web"
)

// world is a service in this process, with recorders as processes of their own.
type world struct {
	folder, database string
	db               *pg.Store
	service          *service.Service
	client           *client.Client
	person, project  int64
	long             int64 // the run of ten million readings, once it is made
	longNumber       int
	fleet            bool
	grown            map[int]bool
	wide             bool   // the project of many runs is there
	web              *nginx // once it was asked for
	stop             func() // of the service
}

func measurements() (rows []row, end func(), err error) {
	ctx := context.Background()
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-bench-")
	if err != nil {
		return nil, nil, err
	}
	w := &world{folder: folder, database: os.Getenv("KEMBREL_TEST_DATABASE")}
	if w.database == "" {
		return nil, nil, fmt.Errorf("run it by: make bench")
	}
	if w.db, err = pg.Open(ctx, w.database); err != nil {
		return nil, nil, err
	}
	if err := w.db.Migrate(ctx, ""); err != nil {
		return nil, nil, err
	}
	// The reference as one would write it: an unlogged or unindexed table would not be what people have.
	if _, err := w.db.Lane(db.Jobs).Exec(ctx, `create table if not exists plain_reading (run bigint not null, curve int not null, step bigint not null,
		epoch float8, at timestamptz not null, value float8 not null); create index if not exists plain_order on plain_reading (run, curve, step)`); err != nil {
		return nil, nil, err
	}
	kept, err := blob.NewLocal(filepath.Join(folder, "blobs"))
	if err != nil {
		return nil, nil, err
	}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	svc := service.New(w.db, kept, service.Options{Log: log, LostAfter: 60e9, Version: "bench",
		Telling: subscriptions.Options{Public: "http://127.0.0.1",
			Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}})
	if _, err := svc.FirstStart(ctx, "bench"); err != nil {
		return nil, nil, err
	}
	owner, err := svc.OwnerAccess(ctx)
	if err != nil {
		return nil, nil, err
	}
	in := &api.NewToken{}
	in.Body.Name, in.Body.Days = "bench", 1
	token, err := svc.CreateToken(ctx, owner, in)
	if err != nil {
		return nil, nil, err
	}
	server := httptest.NewServer(web.New(svc, web.Options{Log: log, Console: console.Files()}).Handler())
	var working context.Context
	working, w.stop = context.WithCancel(ctx)
	go svc.Run(working)
	w.client, w.service = client.New(server.URL, token.Secret), svc
	os.Setenv("KEMBREL_URL", server.URL)
	os.Setenv("KEMBREL_TOKEN", token.Secret)
	os.Setenv("KEMBREL_SPOOL", filepath.Join(folder, "spool"))
	project := &api.NewProject{}
	project.Body.Key = "vessels"
	if _, err := client.Call(ctx, w.client, api.CreateProject, project); err != nil {
		return nil, nil, err
	}
	p, err := w.db.ProjectByKey(ctx, "vessels")
	if err != nil {
		return nil, nil, err
	}
	w.person, w.project = owner.ID, p.ID
	return append([]row{
			w.recorderCost("bursts of 20 each 10 ms", 20, 10*time.Millisecond, "<= 3 (2)"),
			w.recorderCost("without a pause", 20_000, 0, "(the recorder's own speed)"),
			w.readings("readings durable, store layer", 50, 20, 100, ">= 20 (25)", w.storeLayer),
			w.readings("readings durable, store layer", 5, 200, 100, ">= 20 (25)", w.storeLayer),
			w.readings("readings durable, store layer", 2000, 1, 20, ">= 8 (15)", w.storeLayer),
			w.readings("end to end over HTTP, JSON", 50, 20, 50, ">= 4 (6)", w.overHTTP(false)),
			w.readings("end to end over HTTP, packed", 50, 20, 50, ">= 8 (10)", w.overHTTP(true)),
			w.readings("end to end over HTTP, packed", 2000, 1, 20, "(>= 8 in the store)", w.overHTTP(true)),
			w.readings("ingest, summaries and sealing together", 50, 20, 400, ">= 8", w.sustained),
			w.bytesPerReading(), w.walPerReading(), w.realBytes(), w.shortBytes(),
			w.whole("in the store", "<= 10 ms (5)", 0, 1, w.viewStore),
			w.whole("over HTTP", "<= 30 ms (20)", 0, 1, w.viewHTTP),
			w.whole("as the console asks", "<= 20 ms", 0, 1, w.asked(0, 0)),
			w.whole("as the console asks, smoothed", "<= 100 ms", 0, 1, w.asked(long/100, 0)),
			w.whole("as the console asks, moving median", "<= 100 ms", 0, 1, w.asked(0, long/50)),
			w.whole("as the console asks, smoothed by less than a pixel", "<= 100 ms", 0, 1, w.asked(500, 0)),
			w.whole("a window of 1 %", "<= 5 ms", 0.4, 0.41, w.viewStore),
			w.manyLegs(), w.thousandRuns(),
			w.runList("newest first", "<= 100 ms (50)", "", "", 1),
			w.runList("hyper.lr <= 0.01, by best(loss.val)", "<= 100 ms (50)", "hyper.lr <= 0.01", "best", 1),
			w.runList("the same, its 20th page", "<= 100 ms (50)", "hyper.lr <= 0.01", "best", 20),
			w.runList("a rare condition, hyper.seed < 60, by best", "<= 100 ms (50)", "hyper.seed < 60", "best", 1),
			w.runList("by hyper.lr", "<= 100 ms (50)", `best("loss.val") < 0.5`, "hyper.lr", 1),
			w.runList("by a figure of another curve, best(accuracy.val)", "<= 100 ms (50)", "hyper.lr <= 0.01",
				`best("accuracy.val")`, 1),
			w.runList("filtered by one, last(accuracy.val) > 0.9, by best", "<= 100 ms (50)",
				`last("accuracy.val") > 0.9`, "best", 1),
			w.opens(false), w.opens(true),
			w.frames("a run's page", "/vessels/%d", ".u-over"),
			w.frames("the runs of the project", "/vessels", "tbody tr"), w.delay(),
			w.python("time per readings call"), w.python("300 MB saved"),
		}, slices.Concat(w.storeRows(), w.fleetRows(), w.grownRows(), w.dataRows(), w.sheetRows(), w.taskRows(),
			w.fileRows(), w.lineageRows(),
			w.pollingRows(), w.tellingRows())...), func() {
			w.stop()
			if w.web != nil {
				w.web.cmd.Process.Signal(os.Interrupt)
				w.web.cmd.Wait()
			}
			server.CloseClientConnections()
			server.Close()
			w.db.Close()
			os.RemoveAll(folder)
		}, nil
}
