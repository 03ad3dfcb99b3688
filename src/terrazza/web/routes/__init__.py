"""The route table."""

from terrazza.web.routes import (
    deliverables,
    fieldbook,
    inbox,
    jobs,
    pictures,
    plan,
    recipes,
    scene,
    sheets,
    station,
    table,
    tries,
)

# jobs last: its /jobs/{id}/{step} would take the others' addresses
ROUTERS = (
    sheets.router,
    fieldbook.router,
    inbox.router,
    scene.router,
    pictures.router,
    plan.router,
    recipes.router,
    station.router,
    table.router,
    tries.router,
    deliverables.router,
    jobs.router,
)
