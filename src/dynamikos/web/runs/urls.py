from django.urls import path

from dynamikos.web.runs.views import afterwards, closer, files, pages, starting, steering

urlpatterns = [
    path("p/<uuid:project>/runs/<uuid:pk>/dealt", files.dealt, name="run-dealt"),
    path("p/<uuid:project>/runs", pages.runs, name="runs"),
    path("p/<uuid:project>/runs/measure", starting.measure, name="measure-generator"),
    path("p/<uuid:project>/targets/<int:target>/stop", steering.stop_target, name="stop-target"),
    path("p/<uuid:project>/load/address", starting.quick, name="quick-run"),
    path("p/<uuid:project>/load/<uuid:pk>/start", starting.start, name="start-run"),
    path("p/<uuid:project>/load/<uuid:pk>/preflight", starting.before_start, name="preflight"),
    path("p/<uuid:project>/load/<uuid:pk>/probe", starting.try_probe, name="try-probe"),
    path("p/<uuid:project>/runs/<uuid:pk>", pages.run, name="run"),
    path("p/<uuid:project>/runs/<uuid:pk>/tables", pages.tables, name="run-tables"),
    path("p/<uuid:project>/runs/<uuid:pk>/headline", pages.headline, name="run-headline"),
    path("p/<uuid:project>/runs/<uuid:pk>/figures.<str:form>", files.figures, name="run-figures"),
    path("p/<uuid:project>/runs/<uuid:pk>/seconds.<str:form>", files.seconds, name="run-seconds"),
    path("p/<uuid:project>/runs/<uuid:pk>/metrics", files.metrics, name="run-metrics"),
    path("p/<uuid:project>/runs/<uuid:pk>/inputs", afterwards.inputs_page, name="run-inputs"),
    path("p/<uuid:project>/runs/<uuid:pk>/anew", afterwards.judge_anew, name="run-anew"),
    path("p/<uuid:project>/runs/<uuid:pk>/measures", afterwards.take_measures, name="run-measures"),
    path("p/<uuid:project>/runs/<uuid:pk>/about", afterwards.about, name="run-about"),
    path("p/<uuid:project>/runs/<uuid:pk>/closer", closer.closer, name="run-closer"),
    path("p/<uuid:project>/runs/<uuid:pk>/suspects", closer.suspects, name="run-suspects"),
    path("p/<uuid:project>/runs/<uuid:pk>/lines", pages.lines, name="run-lines"),
    path("p/<uuid:project>/runs/<uuid:pk>/remark", steering.remark, name="run-remark"),
    path("p/<uuid:project>/runs/<uuid:pk>/kept/<int:number>", pages.kept, name="run-kept"),
    path("p/<uuid:project>/runs/<uuid:pk>/stop-gently", steering.stop, {"how": "gently"}, name="stop-gently"),
    path("p/<uuid:project>/runs/<uuid:pk>/load", steering.change, name="run-load"),
    path("p/<uuid:project>/runs/<uuid:pk>/stop-now", steering.stop, {"how": "now"}, name="stop-now"),
    path("p/<uuid:project>/runs/<uuid:pk>/stream", pages.stream, name="run-stream"),
]
