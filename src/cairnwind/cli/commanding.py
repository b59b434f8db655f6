"""Commands that command: a setting, its release, a hold, the stop, a lockout."""

from __future__ import annotations

import sys

import click

from cairnwind.cli.interrupts import Interrupts
from cairnwind.cli.main import an_output, as_json, main, report, settings_of, site_of
from cairnwind.core.values.errors import Trouble


@main.command(context_settings={"ignore_unknown_options": True})
@an_output
@click.argument("setting", nargs=-1, required=True, shell_complete=settings_of)
@click.option("--over", metavar="TIME", help="Fade there, from what it is at, in so long: '3 s'.")
@click.option("--for", "lasting", metavar="TIME", help="For so long: '10 min'.")
@click.option("--until", metavar="TIME", help="Until then: 22:30, or a date with time.")
@click.option("--until-released", is_flag=True, help="Until released, whatever the plan does.")
@click.option("--when-possible", is_flag=True, help="Wait if a gate or a lost link stands in the way.")
@as_json
@click.pass_context
def turn(
    ctx: click.Context,
    output: str,
    setting: tuple[str, ...],
    over: str | None,
    lasting: str | None,
    until: str | None,
    until_released: bool,
    when_possible: bool,
    as_json: bool,
) -> None:
    """Turn OUTPUT on, off, to a setting like '40%', or 'toggle' it.

    \b
    lamps, fans    40%       half      '20% duty'
    colour lamps   coral     '#e07b1c' 'hue 30'
    sounders       A4        440Hz     (for 1 s unless --for says more)
    motors         60%       -60%      where they have a line to reverse them
    """
    if sum((lasting is not None, until is not None, until_released)) > 1:
        raise click.UsageError("Give one of --for, --until and --until-released.")
    lasting = "until released" if until_released else lasting
    report(
        ctx,
        site_of(ctx).turn(
            output, " ".join(setting), over=over, lasting=lasting, until=until, when_possible=when_possible
        ),
        as_json,
    )


@main.command()
@an_output
@as_json
@click.pass_context
def release(ctx: click.Context, output: str, as_json: bool) -> None:
    """End what persons claim on OUTPUT: the plan, or rest, has it again."""
    report(ctx, site_of(ctx).release(output), as_json)


@main.command()
@an_output
@click.argument("setting", nargs=-1)
@as_json
@click.pass_context
def hold(ctx: click.Context, output: str, setting: tuple[str, ...], as_json: bool) -> None:
    """Hold OUTPUT on (or at SETTING) until Ctrl-C; it ends with this command, however that ends."""
    from cairnwind.cli import show

    held = site_of(ctx).hold(output, " ".join(setting) or "on")
    with Interrupts() as stop, held:
        assert held.outcome is not None
        if as_json:
            show.emit(held.outcome.form)
        else:
            fate = held.outcome.ending or held.outcome.outcome
            click.echo(f"Holding {output} at {held.outcome.words} ({fate}); Ctrl-C lets go.")
        sys.stdout.flush()
        while held.lost is None and not stop.asked:
            stop.sleep(0.05)
    if stop.asked:
        if not as_json:
            click.echo(f"\nLet go of {output}.")
        return
    raise Trouble(
        "refused", f"The hold on {output} has ended: {held.lost}", "Hold again if it is still wanted."
    )


@main.command()
@click.option("--reason", default="", help="Shown to everybody while it lasts.")
@click.option("--reset", is_flag=True, help="End the all-stop.")
@as_json
@click.pass_context
def stop(ctx: click.Context, reason: str, reset: bool, as_json: bool) -> None:
    """All-stop: every output safe, now. It stays until a keeper resets it."""
    site = site_of(ctx)
    report(ctx, site.reset_stop() if reset else site.stop(reason), as_json)
    if not reset and not as_json:
        from cairnwind.site.held import in_words, read

        for sentence in (said := in_words([read(each) for each in site.held()])):
            click.echo(f"  {sentence}")
        if said:
            click.echo("  Until then the service holds them. What is missing: cairnwind wire held.")
    if reset and not as_json:
        back = [
            f"{each['name']} ({each['wanted']['words']})" for each in site.outputs() if each["wanted"]["on"]
        ]
        if back:
            click.echo(f"Claimed, and so on again: {', '.join(back)}.")


@main.command()
@an_output
@click.argument("tag")
@click.option("--reason", default="", help="Why it is locked out.")
@click.option(
    "--until",
    default="",
    metavar="TIME",
    help="When it is meant to come off; it stays until somebody takes it off.",
)
@click.option("--remove", is_flag=True, help="Take the tag off.")
@as_json
@click.pass_context
def lockout(
    ctx: click.Context, output: str, tag: str, reason: str, until: str, remove: bool, as_json: bool
) -> None:
    """Hang a named TAG on OUTPUT: it stays safe while someone works on it."""
    site = site_of(ctx)
    report(ctx, site.unlock(output, tag) if remove else site.lock(output, tag, reason, until), as_json)
