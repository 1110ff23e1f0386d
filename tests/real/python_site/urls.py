from django.apps import apps
from django.urls import include, path
from wagtail import urls as pages
from wagtail.admin import urls as admin
from wagtail.documents import urls as documents

urlpatterns = [path("cms/", include(admin)), path("documents/", include(documents)),
               path("shop/", include(apps.get_app_config("oscar").urls[0])), path("", include(pages))]
