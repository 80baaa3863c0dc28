"""All addresses: the API below /api/v1/, everything else is the interface."""

from __future__ import annotations

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.urls import path, re_path
from drf_spectacular.views import SpectacularAPIView

from ordnung.server.api import adding, compared, exports, history
from ordnung.server.api import arrivals as arriving
from ordnung.server.api import audit as audit
from ordnung.server.api import away as away
from ordnung.server.api import baselines as baselines
from ordnung.server.api import calls as calls
from ordnung.server.api import catalogs as catalogs
from ordnung.server.api import drift as drift
from ordnung.server.api import fleet as fleet
from ordnung.server.api import house as house
from ordnung.server.api import overrides as overrides
from ordnung.server.api import people as people
from ordnung.server.api import records as records
from ordnung.server.api import repositories as repositories
from ordnung.server.api import runs as runs
from ordnung.server.api import seal as sealing
from ordnung.server.api import sheets as sheets
from ordnung.server.api import site as work
from ordnung.server.api import store as storing
from ordnung.server.api import ways_back as ways_back
from ordnung.server.api import written as writing
from ordnung.server.api.advisories import AdvisoriesView
from ordnung.server.api.carried import CarriedView
from ordnung.server.api.floor import FloorView
from ordnung.server.api.packages import PackagesView
from ordnung.server.api.reports import ReportsView
from ordnung.server.api.selections import SelectionView
from ordnung.server.api.starts import NextStartView
from ordnung.server.problems import not_found


def interface(request: HttpRequest) -> HttpResponseBase:
    """The one page of the interface; its assets never change under one name, the page itself may."""
    page = settings.WEB_DIST / "index.html"
    if not page.is_file():
        return HttpResponse("The interface is not built. Run make setup.\n", status=503, content_type="text/plain")
    return FileResponse(page.open("rb"), content_type="text/html", headers={"Cache-Control": "no-cache"})


V1 = "api/v1/"
urlpatterns = [
    path(f"{V1}schema", SpectacularAPIView.as_view(), name="schema"),
    path(f"{V1}me", people.MeView.as_view()),
    path(f"{V1}sign-in", people.SignInView.as_view()),
    path(f"{V1}sign-out", people.SignOutView.as_view()),
    path(f"{V1}me/password", people.OwnPasswordView.as_view()),
    path(f"{V1}me/sessions", people.OwnSessionsView.as_view()),
    path(f"{V1}me/sessions/<str:session>", people.OwnSessionView.as_view()),
    path(f"{V1}people", people.PeopleView.as_view()),
    path(f"{V1}people/<str:name>", people.PersonView.as_view()),
    path(f"{V1}people/<str:name>/sessions", people.PersonSessionsView.as_view()),
    path(f"{V1}audit", audit.AuditView.as_view()),
    path(f"{V1}audit/check", audit.AuditCheckView.as_view()),
    path(f"{V1}audit/heads", audit.AuditHeadsView.as_view()),
    path(f"{V1}exports/audit.json", audit.AuditJsonView.as_view()),
    path(f"{V1}exports/audit.csv", audit.AuditCsvView.as_view()),
    path(f"{V1}site", work.SiteView.as_view()),
    path(f"{V1}events", work.events),
    path(f"{V1}work", work.WorkListView.as_view()),
    path(f"{V1}work/<int:pk>/seen", work.WorkSeenView.as_view()),
    path(f"{V1}servers", fleet.ServersView.as_view()),
    path(f"{V1}servers/<str:name>", fleet.ServerView.as_view()),
    path(f"{V1}servers/<str:name>/credentials", fleet.CredentialsView.as_view()),
    path(f"{V1}servers/<str:name>/trust", fleet.TrustView.as_view()),
    path(f"{V1}servers/<str:name>/board", fleet.OtherBoardView.as_view()),
    path(f"{V1}servers/<str:name>/readings", history.ReadingsView.as_view()),
    path(f"{V1}servers/<str:name>/changes", history.ChangesView.as_view()),
    path(f"{V1}servers/<str:name>/lost/seen", history.LostSeenView.as_view()),
    path(f"{V1}servers/<str:name>/next-start", NextStartView.as_view()),
    path(f"{V1}selections/<slug:name>", SelectionView.as_view()),
    path(f"{V1}floor", FloorView.as_view()),
    path(f"{V1}groups", away.GroupsView.as_view()),
    path(f"{V1}groups/<str:name>", away.GroupView.as_view()),
    path(f"{V1}away", away.AwayListView.as_view()),
    path(f"{V1}away/<str:name>/back", away.AwayBackView.as_view()),
    path(f"{V1}lost", history.LostView.as_view()),
    path(f"{V1}credentials", fleet.ManyCredentialsView.as_view()),
    path(f"{V1}trust", fleet.ManyTrustView.as_view()),
    path(f"{V1}surveys", fleet.SurveysView.as_view()),
    path(f"{V1}reach", fleet.ReachView.as_view()),
    path(f"{V1}searches", adding.SearchesView.as_view()),
    path(f"{V1}searches/<int:pk>", adding.SearchView.as_view()),
    path(f"{V1}searches/<int:pk>/add", adding.SearchAddView.as_view()),
    path(f"{V1}host-reports", ReportsView.as_view()),
    path(f"{V1}exports/servers.csv", exports.CsvView.as_view()),
    path(f"{V1}exports/readings.json", exports.ReadingsFileView.as_view()),
    path(f"{V1}exports/drift.json", drift.DriftJsonView.as_view()),
    path(f"{V1}exports/drift.csv", drift.DriftCsvView.as_view()),
    path(f"{V1}exports/firmware.cdx.json", drift.BomView.as_view()),
    path(f"{V1}catalogs", catalogs.CatalogsView.as_view()),
    path(f"{V1}catalogs/<str:maker>/<str:catalog>/<str:old>/<str:new>", catalogs.IssueDiffView.as_view()),
    path(f"{V1}catalog-sources", catalogs.SourcesView.as_view()),
    path(f"{V1}catalog-sources/fetch", catalogs.SourcesFetchView.as_view()),
    path(f"{V1}catalog-sources/<int:pk>", catalogs.SourceView.as_view()),
    path(f"{V1}trusted-keys", catalogs.KeysView.as_view()),
    path(f"{V1}trusted-keys/<int:pk>", catalogs.KeyView.as_view()),
    path(f"{V1}advisories", AdvisoriesView.as_view()),
    path(f"{V1}baseline", baselines.BaselineView.as_view()),
    path(f"{V1}baseline/effect", baselines.EffectView.as_view()),
    path(f"{V1}baseline/draft", baselines.DraftView.as_view()),
    path(f"{V1}baseline/revisions", baselines.RevisionsView.as_view()),
    path(f"{V1}baseline/revisions/<int:number>", baselines.RevisionView.as_view()),
    path(f"{V1}baseline/compare", baselines.CompareView.as_view()),
    path(f"{V1}drift", drift.DriftView.as_view()),
    path(f"{V1}review", drift.ReviewView.as_view()),
    path(f"{V1}left-out", drift.ExclusionsView.as_view()),
    path(f"{V1}left-out/put-back", drift.PutBackView.as_view()),
    path(f"{V1}products/<str:product>/line", baselines.ReleaseLineView.as_view()),
    path(f"{V1}packing", repositories.PackingView.as_view()),
    path(f"{V1}packages", PackagesView.as_view()),
    path(f"{V1}repositories", repositories.RepositoriesView.as_view()),
    path(f"{V1}repositories/compare", compared.CompareView.as_view()),
    path(f"{V1}repositories/<int:pk>", repositories.RepositoryView.as_view()),
    path(f"{V1}repositories/<int:pk>/check", repositories.RepositoryCheckView.as_view()),
    path(f"{V1}repositories/<int:pk>/again", repositories.RepositoryAgainView.as_view()),
    path(f"{V1}repositories/<int:pk>/signatures", repositories.RepositorySignaturesView.as_view()),
    path(f"{V1}repositories/<int:pk>/targets", repositories.RepositoryTargetsView.as_view()),
    path(f"{V1}repositories/<int:pk>/stale", compared.StaleView.as_view()),
    path(f"{V1}repositories/<int:pk>/reach", compared.ReachView.as_view()),
    path(f"{V1}repositories/<int:pk>/fetches", compared.FetchesView.as_view()),
    path(f"{V1}repositories/<int:pk>/baseline", arriving.TakeBaselineView.as_view()),
    path(f"{V1}repositories/<int:pk>/written", writing.WrittenOutView.as_view()),
    path(f"{V1}repositories/<int:pk>/written/<int:written>/file", writing.WrittenFileView.as_view()),
    path(f"{V1}ways-back", ways_back.WaysBackView.as_view()),
    path(f"{V1}uploads", arriving.UploadsView.as_view()),
    path(f"{V1}uploads/<uuid:pk>", arriving.UploadView.as_view()),
    path(f"{V1}arrivals", arriving.ArrivalsView.as_view()),
    path(f"{V1}arrivals/<int:pk>/again", arriving.ArrivalAgainView.as_view()),
    path(f"{V1}seal", sealing.SealView.as_view()),
    path(f"{V1}seal/draft", sealing.SealDraftView.as_view()),
    path(f"{V1}seal/root", sealing.SealRootView.as_view()),
    path(f"{V1}trusted-roots", sealing.TrustedRootsView.as_view()),
    path(f"{V1}trusted-roots/<int:pk>", sealing.TrustedRootView.as_view()),
    path(f"{V1}fetch-places", storing.PlacesView.as_view()),
    path(f"{V1}fetch-places/<int:pk>", storing.PlaceView.as_view()),
    path(f"{V1}store", storing.StoreView.as_view()),
    path(f"{V1}store/clear", storing.StoreClearView.as_view()),
    path(f"{V1}runs", runs.RunsView.as_view()),
    path(f"{V1}runs/carried", CarriedView.as_view()),
    path(f"{V1}runs/<int:pk>", runs.RunView.as_view()),
    path(f"{V1}runs/<int:pk>/servers/<str:name>/ways-back", ways_back.ReversalsView.as_view()),
    path(f"{V1}runs/<int:pk>/servers/<str:name>/override", overrides.OverrideView.as_view()),
    path(f"{V1}runs/<int:pk>/servers/<str:name>/answer", overrides.AnswerView.as_view()),
    path(f"{V1}runs/<int:pk>/servers/<str:name>/tick", overrides.TickView.as_view()),
    path(f"{V1}calls", calls.CallsView.as_view()),
    path(f"{V1}runs/<int:pk>/forecast", runs.RunForecastView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet", sheets.SheetView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet/checks", sheets.SheetChecksView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet/try", sheets.SheetTrialView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet/approval", sheets.ApprovalView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet/copy", sheets.SheetCopyView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet/plan-again", sheets.PlanAgainView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet/revisions", sheets.SheetRevisionsView.as_view()),
    path(f"{V1}runs/<int:pk>/sheet/compare/<int:other>", sheets.SheetCompareView.as_view()),
    path(f"{V1}runs/<int:pk>/waves/<str:wave>/open", sheets.WaveOpenView.as_view()),
    path(f"{V1}runs/<int:pk>/window", sheets.WindowView.as_view()),
    path(f"{V1}exports/sheets/<int:pk>.json", sheets.SheetFileView.as_view()),
    path(f"{V1}exports/sheets/<int:pk>.csv", sheets.SheetTableView.as_view()),
    path(f"{V1}house", house.HouseView.as_view()),
    path(f"{V1}hooks", house.HooksView.as_view()),
    path(f"{V1}hooks/<int:pk>", house.HookView.as_view()),
    path(f"{V1}hooks/<int:pk>/try", house.HookTryView.as_view()),
    path(f"{V1}windows", house.WindowsView.as_view()),
    path(f"{V1}windows/<int:pk>", house.MaintenanceWindowView.as_view()),
    path(f"{V1}openings", house.OpeningsView.as_view()),
    path(f"{V1}runs/<int:pk>/start", runs.RunStartView.as_view()),
    path(f"{V1}runs/<int:pk>/orders", runs.RunOrdersView.as_view()),
    path(f"{V1}runs/<int:pk>/tape", runs.TapeView.as_view()),
    path(f"{V1}runs/<int:pk>/record", records.RecordView.as_view()),
    path(f"{V1}months", records.MonthsView.as_view()),
    path(f"{V1}exports/records/<int:pk>.json", records.RecordFileView.as_view()),
    path(f"{V1}exports/records/<int:pk>.csv", records.RecordTableView.as_view()),
    path(f"{V1}exports/records/<int:pk>.cdx.json", records.RecordBomView.as_view()),
    path(f"{V1}runs/<int:pk>/take-back", runs.TakeBackView.as_view()),
    re_path(r"^api(/.*)?$", not_found),
    re_path(r"^(?!static/).*$", interface),
]
handler400 = "ordnung.server.problems.bad_request"
handler403 = "ordnung.server.problems.forbidden"
handler404 = "ordnung.server.problems.not_found"
handler500 = "ordnung.server.problems.server_error"
