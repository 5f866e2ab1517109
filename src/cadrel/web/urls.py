"""Addresses."""

from django.contrib.auth import views as auth
from django.urls import path, register_converter

from cadrel.web.pages import library, people, projects, rig, route, runs, through
from cadrel.web.pages.accounts import LogIn


class Number:
    """An id or a run's number: digits that the database can hold."""

    regex = "[0-9]{1,15}"

    def to_python(self, value: str) -> int:
        """Return it as a number."""
        return int(value)

    def to_url(self, value: int) -> str:
        """Return it as text."""
        return str(value)


register_converter(Number, "number")
AXIS = "axis/<number:axis_id>/"
urlpatterns = [
    path("login/", LogIn.as_view(), name="login"),
    path("logout/", auth.LogoutView.as_view(), name="logout"),
    path("", projects.projects, name="projects"),
    path("new/", projects.new, name="new"),
    path("project/<number:project_id>/", projects.project, name="project"),
    path("change/<str:thing>/<number:thing_id>/<str:action>/", projects.change, name="change"),
    path("people/", people.people, name="people"),
    path("people/add/", people.add, name="add_person"),
    path("people/<number:user_id>/<str:action>/", people.change, name="change_person"),
    path("account/", people.account, name="account"),
    path("library/", library.library, name="library"),
    path("library/load/", library.load, name="library_load"),
    path("library/<number:record_id>/", library.record, name="record"),
    path("library/<number:record_id>/copy/", library.copy, name="copy_record"),
    path("library/<number:record_id>/take/", library.take, name="take_record"),
    path("library/<number:record_id>/file.<str:form>", library.export, name="record_file"),
    path(AXIS + "jog/", rig.jog, name="jog"),
    path(AXIS + "brake/", rig.hold_brake, name="hold_brake"),
    path(AXIS + "vector/", rig.vector, name="vector"),
    path(AXIS + "stand-in/", rig.bench_page, name="bench"),
    path(AXIS + "export/", projects.export, name="export"),
    path(AXIS + "load-file/", projects.load, name="load_file"),
    path(AXIS + "runs/", runs.shelf, name="shelf"),
    path(AXIS + "run/<number:number>/", runs.run, name="run"),
    path(AXIS + "run/<number:number>/pin/", runs.pin, name="pin"),
    path(AXIS + "run/<number:number>/csv/", runs.csv, name="csv"),
    path(AXIS + "run/<number:number>/uff/", runs.uff, name="uff"),
    path(AXIS + "start/<str:procedure>/", rig.start, name="start"),
    path(AXIS + "through/", through.page, name="through"),
    path(AXIS + "through/part/", through.part, name="through_part"),
    path(AXIS + "through/start/", through.start, name="through_start"),
    path(AXIS + "abort/", rig.abort, name="abort"),
    path(AXIS + "job/<number:job_id>/", route.job_part, name="job"),
    path(AXIS + "predict/<str:loop>/", route.prediction, name="predict"),
    path(AXIS + "front/", route.front, name="front"),
    path(AXIS + "gains/<str:loop>/", route.keep_gains, name="keep_gains"),
    path(AXIS + "asked/<str:step>/", route.set_asked, name="set_asked"),
    path(AXIS + "proposal/<number:proposal_id>/", route.decide, name="decide"),
    path(AXIS + "keep/<str:kind>/", library.keep, name="keep"),
    path(AXIS + "relabel/", route.relabel, name="relabel"),
    path(AXIS + "source/", route.choose, name="choose_source"),
    *[
        path(f"{AXIS}do/{name}/", getattr(rig, name), name=name)
        for name in (
            "connect",
            "disconnect",
            "take",
            "give",
            "send",
            "fetch",
            "store",
            "restart",
            "reset",
            "power",
            "switch",
            "enable_jog",
            "disable",
            "set_position",
            "turn",
            "enable_vector",
            "invert",
            "exchange",
            "note_angle",
            "set_phasing",
            "take_offset",
            "forget_notes",
            "rewire",
        )
    ],
    path(AXIS + "<str:step>/save/", route.save, name="save"),
    path(AXIS + "<str:step>/preview/", route.preview, name="preview"),
    path(AXIS + "<str:step>/", route.step, name="step"),
]
handler404 = "cadrel.web.errors.not_found"
handler403 = "cadrel.web.errors.not_allowed"
handler500 = "cadrel.web.errors.broken"
