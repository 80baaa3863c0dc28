"""All addresses: the API below /api/v1/, everything else is the interface."""

from __future__ import annotations

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.urls import path, re_path
from drf_spectacular.views import SpectacularAPIView

from ordnung.server.advisories.views import AdvisoriesView
from ordnung.server.baselines import views as baselines
from ordnung.server.catalogs import views as catalogs
from ordnung.server.drift import views as drift
from ordnung.server.fleet import adding, exports, history
from ordnung.server.fleet import views as fleet
from ordnung.server.fleet.floor import FloorView
from ordnung.server.fleet.reports import ReportsView
from ordnung.server.people import views as people
from ordnung.server.repositories import compared
from ordnung.server.repositories import in_views as arriving
from ordnung.server.repositories import out_views as writing
from ordnung.server.repositories import seal_views as sealing
from ordnung.server.repositories import store_views as storing
from ordnung.server.repositories import views as repositories
from ordnung.server.repositories.packages import PackagesView
from ordnung.server.runs import away_views as away
from ordnung.server.runs import override_views as overrides
from ordnung.server.runs import views as runs
from ordnung.server.work import views as work


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
    path(f"{V1}site", work.SiteView.as_view()),
    path(f"{V1}events", work.events),
    path(f"{V1}work", work.WorkListView.as_view()),
    path(f"{V1}work/<int:pk>/seen", work.WorkSeenView.as_view()),
    path(f"{V1}servers", fleet.ServersView.as_view()),
    path(f"{V1}servers/<str:name>", fleet.ServerView.as_view()),
    path(f"{V1}servers/<str:name>/credentials", fleet.CredentialsView.as_view()),
    path(f"{V1}servers/<str:name>/trust", fleet.TrustView.as_view()),
    path(f"{V1}servers/<str:name>/readings", history.ReadingsView.as_view()),
    path(f"{V1}servers/<str:name>/changes", history.ChangesView.as_view()),
    path(f"{V1}servers/<str:name>/lost/seen", history.LostSeenView.as_view()),
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
    path(f"{V1}left-out", drift.LeftOutView.as_view()),
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
    path(f"{V1}ways-back", compared.WaysBackView.as_view()),
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
    path(f"{V1}runs/<int:pk>", runs.RunView.as_view()),
    path(f"{V1}runs/<int:pk>/servers/<str:name>/override", overrides.OverrideView.as_view()),
    path(f"{V1}runs/<int:pk>/start", runs.RunStartView.as_view()),
    path(f"{V1}runs/<int:pk>/hold", runs.RunOrderView.as_view(), {"order": "hold"}),
    path(f"{V1}runs/<int:pk>/go", runs.RunOrderView.as_view(), {"order": "go"}),
    path(f"{V1}runs/<int:pk>/stop", runs.RunOrderView.as_view(), {"order": "stop"}),
    path(f"{V1}runs/<int:pk>/tape", runs.TapeView.as_view()),
    path(f"{V1}runs/<int:pk>/record", runs.RecordView.as_view()),
    path(f"{V1}runs/<int:pk>/take-back", runs.TakeBackView.as_view()),
    re_path(r"^(?!api/|static/).*$", interface),
]
