"""direkt watch: looks after what is on air."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.watch_run import WatchRun
from direkt.errors import UnusableInput
from direkt.work.steps import END

if TYPE_CHECKING:
    from direkt.watch.board import Board


@click.command()
@click.argument("names", nargs=-1, metavar="[EVENT|FEED]...")
@click.option(
    "--for", "seconds", type=options.Seconds(), metavar="TIME", help="End after this long; otherwise at Ctrl-C."
)
@click.option(
    "--every", type=options.Seconds(), metavar="TIME", help="Ask each device this often [default: 700ms; up to 4s where there are many]."
)  # fmt: skip
@click.option("--no-recover", is_flag=True, help="Look and notify only: start and restart nothing.")
@options.renamed("--no-mend", "--no-recover")
@options.renamed("--no-tell", "--no-notify")
@click.option("--no-notify", is_flag=True, help="Notify nobody of those under watch.notify in the rig.")
@click.option(
    "--page",
    metavar="[ADDRESS:]PORT",
    help="Show the same as a web page, on this machine only unless an address is given.",
)
@click.option("--page-links", is_flag=True, help="Show the page's links with what lets people look and act, and end.")
@click.option("--new-links", is_flag=True, help="The same with new links; the old ones let nobody in any more.")
@click.option("--tls", is_flag=True, help="--page over TLS, with a certificate made on the spot.")
@click.option(
    "--certificate", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.pem",
    help="--page over TLS, with the certificate and private key in this file.",
)  # fmt: skip
@click.option("--metrics", metavar="[ADDRESS:]PORT", help="Give figures to a scraper (OpenMetrics).")
@options.report_option
@options.rig_option
@options.json_option
def watch(
    names: tuple[str, ...], seconds: float | None, every: float | None, no_recover: bool, no_notify: bool, page: str | None, page_links: bool,
    new_links: bool, tls: bool, certificate: Path | None, metrics: str | None, report: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Look after EVENTs and FEEDs while they are on air: see drops, restart what dropped, notify people.

    Without a name: all feeds of the rig. A drop is seen within seconds and what 'watch.recover' in the rig says is done: the push is
    started again, then the device restarted, at most so often. What a person stopped is left off. Ending the watch leaves all
    pushes as they are.
    """
    from direkt.cli.watch_view import document

    rig = options.load_rig(rig_path)
    if page_links or new_links:
        from direkt.cli.watch_page import show_links

        return show_links(rig, page, tls=tls or certificate is not None, new=new_links)
    if (tls or certificate is not None) and page is None:
        raise UnusableInput("--tls and --certificate go with --page")
    run = WatchRun(rig, names, every, mend=not no_recover, tell=not no_notify, as_json=as_json)
    last: Board | None = None
    try:
        with run.around(page, tls, certificate, metrics):
            last = run.run(seconds)
    except KeyboardInterrupt:
        END.taken()
        last = run.board
    found = document(last if last is not None else run.board, interrupted=run.interrupted)
    if as_json:
        output.print_json(found)
    output.save_report(report, found)
    return run.finish()


