"""The Django project.

    accounts/   login, roles
    projects/   Project, Drive, Axis, ValueSet and the actions that change them
    runs/       Run, Finding, Proposal, Event; the run shelf and the analysis page
    jobs/       procedures in the worker: Job, the task, progress
    rig/        the drive as the page sees it: live strip, control, jog, STOP, compare, send, store
    route/      one sheet a step: entry forms, checks, predictions
    templates/  pages and parts; static/ scripts, styles, fonts

A view parses, calls one action, renders. Actions take no request.
"""
