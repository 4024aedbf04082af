"""The sample project, from the files in examples/."""

from dynamikos.cli.state import ROOT

DEMO_ACCOUNT = "ada"
PROJECT = "Brindle Fell Observatory"


def load(target_port: int, password: str) -> None:
    """Makes the demo account and project if they are not there; what a person changed is left
    alone.

    Django is set up.
    """
    from django.db import transaction
    from msgspec.structs import replace

    from dynamikos.core.dealing import Deal
    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.journeys.from_recording import journey_from
    from dynamikos.core.notices import EVENTS
    from dynamikos.core.personas import parse_persona
    from dynamikos.core.plans import parse_plan
    from dynamikos.core.plans.crowds import with_journeys
    from dynamikos.web.accounts.models import Account
    from dynamikos.web.datasets.actions import set_deal
    from dynamikos.web.datasets.uploads import import_csv
    from dynamikos.web.environments import actions as environments
    from dynamikos.web.environments.models import Environment
    from dynamikos.web.journeys.actions import create as create_journey
    from dynamikos.web.notices.actions import add as tell
    from dynamikos.web.plans.actions import add as add_plan
    from dynamikos.web.plans.personas import create as create_persona
    from dynamikos.web.projects.actions import create_project
    from dynamikos.web.projects.models import Membership, Project
    from dynamikos.web.recordings.actions import import_har
    from dynamikos.web.recordings.queries import as_core

    base = f"http://127.0.0.1:{target_port}"
    examples = ROOT / "examples"
    with transaction.atomic():
        account, made = Account.objects.get_or_create(username=DEMO_ACCOUNT)
        if made:
            account.set_password(password)
            account.save()
        if Project.objects.filter(name=PROJECT).exists():
            owner = Membership.objects.filter(
                project__name=PROJECT, account=account, role="owner"
            ).first()
            found = Environment.objects.filter(project__name=PROJECT, key="practice-target").first()
            if (
                owner
                and found
                and found.values.get("observatory") != base
                and str(found.values.get("observatory", "")).startswith("http://127.0.0.1:")
            ):
                environments.set_values(
                    owner,
                    found,
                    list({**found.values, "observatory": base}),
                    list({**found.values, "observatory": base}.values()),
                )
                environments.agree(owner, found, base)
            return
        member = create_project(account, PROJECT)
        environment = environments.create(member, "Practice target")
        environments.set_values(member, environment, ["observatory"], [base])
        environments.agree(member, environment, base)
        tell(member, {"kind": "webhook", "to": f"{base}/sink"}, list(EVENTS))
        observers = import_csv(
            member, (examples / "data/observers.csv").read_bytes(), "observers.csv"
        )
        set_deal(
            member, observers, Deal(when="user", then="leave")
        )  # an account of its own for every user
        har = examples / "evening-session.har"
        recording = import_har(member, har.read_bytes(), har.name) if har.exists() else None
        journey = parse_journey((examples / "journeys/evening-booking.yaml").read_text())
        kept = create_journey(member, journey, recording)
        # a second journey, as recorded: what is still hard-wired in it is found by its strands
        if recording is not None:
            origin = "http://127.0.0.1:8470"  # where the sessions were recorded
            raw = journey_from(
                as_core(recording), "Evening, as recorded", [origin], {origin: "env.observatory"}
            )
            other = import_har(
                member, (examples / "second-evening.har").read_bytes(), "second-evening.har"
            )
            create_journey(member, raw, recording).others.add(other)
        plan = parse_plan((examples / "evening.plan.yaml").read_text())
        add_plan(member, replace(plan, journey=kept.key, environment=environment.key, data=()))
        keys = {"journeys/evening-booking.yaml": kept.key}
        for name in ("sky-browser", "night-assistant"):
            path = f"journeys/{name}.yaml"
            keys[path] = create_journey(
                member, parse_journey((examples / path).read_text()), None
            ).key
        for name in ("crowd", "arrivals"):
            plan = parse_plan((examples / f"{name}.plan.yaml").read_text())
            named = {
                path: create_persona(member, "", parse_persona((examples / path).read_text())).key
                for path in plan.personas
            }
            crowds = with_journeys(plan.crowds, keys, named)
            add_plan(
                member, replace(plan, crowds=crowds, environment=environment.key, data=(), deals={})
            )
        stairs = parse_plan(
            (examples / "stairs.plan.yaml").read_text()
        )  # the one that shows where the limit is
        add_plan(
            member,
            replace(
                stairs, journey=keys[stairs.journey or ""], environment=environment.key, data=()
            ),
        )
