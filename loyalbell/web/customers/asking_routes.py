"""What customers are asked on the pages that they see: chosen, worded, in order; and the form to embed."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.customers import asking, custom_fields
from loyalbell.services.customers.asking import AskingSettings
from loyalbell.services.settings.channels import loaded
from loyalbell.web.formatting import MONTHS
from loyalbell.web.public.pages import render_piece
from loyalbell.web.request import Form, RequestContext, SignedIn

router = APIRouter()


@router.get("/asking")
def page(context: RequestContext = SignedIn, saved: str = "") -> Response:
    application = context.application
    uses = custom_fields.uses_by_what(application)
    with application.database.reading() as session:
        questions = asking.questions(session, "sign_up")
    shop = application.the_shop()
    settings = loaded(application, AskingSettings)
    snippet = render_piece(
        application,
        "public/embedded.html",
        questions=questions,
        wording=settings.wording,
        months=MONTHS,
    )
    return context.page(
        "customers/asking.html",
        "fields",
        offered=asking.offered(application),
        places=asking.PLACES,
        settings=settings,
        uses=uses,
        saved=bool(saved),
        snippet=snippet,
        usual=f"You agree that {shop.name} may write to you by email.",
    )


@router.post("/asking")
def settle(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    fields = {name: value for name, value in form.items() if isinstance(value, str)}
    asking.settle(context.application, fields, context.by)
    return context.go("/asking?saved=yes")
