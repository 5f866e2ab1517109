"""The Django project.

    accounts/   login, roles
    projects/   Project, Drive, Axis, ValueSet and the actions that change them
    runs/       Run, Verdict, Finding, Proposal, Event; the run shelf and the analysis page
    jobs/       procedures in the worker: Job, the run itself, its end on disk and in the database
    live/       a process of its own: streams, who looks on, STOP
    rig/        the drive as the page sees it: strip, control, jog, compare, send, store; what became of a silent run
    route/      one sheet a step: entry forms, checks, predictions
    templates/  pages and parts; static/ scripts, styles, fonts

A view parses, calls one action, renders. Actions take no request.
"""
